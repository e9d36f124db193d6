//! Whether times of two runs may be compared at all. What does not depend on time is compared whatever the machine.

use fonex_core::verdict::BUSY_SHARE;
use fonex_store::{Machine, Run};

/// Why times of two runs do not compare.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum UnlikeTimes {
    /// Another processor, another number of cores, or another memory.
    Machine,
    /// The machine was too busy, or busier in one run than in the other, or its processor was throttled.
    Load(String),
}

impl UnlikeTimes {
    /// The reason in words.
    #[must_use]
    pub fn why(&self) -> &str {
        match self {
            Self::Machine => "run on different machines",
            Self::Load(why) => why,
        }
    }
}

/// Why times of two runs do not compare, if so.
#[must_use]
pub fn unlike_times(first: &Run, second: &Run) -> Option<UnlikeTimes> {
    let [one, other] = [first, second].map(|run| format!("run {}", run.id));
    unlike((&first.machine, &one), (&second.machine, &other), BUSY_SHARE)
}

/// Why times taken on two machines do not compare, if so; each with a name for what was run on it. Other programs may take
/// up to `busy` of the processors, and half of that more in one run than in the other.
pub(crate) fn unlike(first: (&Machine, &str), second: (&Machine, &str), busy: f64) -> Option<UnlikeTimes> {
    let hardware = |machine: &Machine| (machine.cpu.clone(), machine.cores, machine.memory_mib);
    if hardware(first.0) != hardware(second.0) {
        return Some(UnlikeTimes::Machine);
    }
    let (one, other) = first.0.during.zip(second.0.during)?;
    if (one.others - other.others).abs() > busy / 2.0 || one.others.max(other.others) > busy {
        return Some(UnlikeTimes::Load(format!(
            "other programs used {} of the processors in {}, and {} in {}",
            percent(one.others),
            first.1,
            percent(other.others),
            second.1
        )));
    }
    [first, second].iter().find_map(|(machine, name)| throttled(machine, name)).map(UnlikeTimes::Load)
}

/// Why times taken on a machine are not its engine's, if so.
pub(crate) fn spoilt_times(machine: &Machine, name: &str, busy: f64) -> Option<String> {
    let others = machine.during?.others;
    if others > busy {
        return Some(format!("other programs used {} of the processors in {name}", percent(others)));
    }
    throttled(machine, name)
}

fn throttled(machine: &Machine, name: &str) -> Option<String> {
    let times = machine.during?.throttled.filter(|times| *times > 0)?;
    let times = if times == 1 { "once".to_owned() } else { format!("{times} times") };
    Some(format!("the processor was throttled {times} in {name}"))
}

fn percent(share: f64) -> String {
    format!("{:.0} %", share * 100.0)
}

#[cfg(test)]
mod tests {
    use fonex_store::Busy;

    use super::*;

    fn machine(others: f64, throttled: Option<u64>) -> Machine {
        let during = Some(Busy { others, others_p95: others, own: 0.1, throttled, looks: 9 });
        Machine { cpu: "a".into(), cores: 2, memory_mib: 1, os: "o".into(), load_1m: None, during }
    }

    #[test]
    fn the_share_that_others_may_take_is_what_was_set() {
        let pair = |one: f64, other: f64, busy: f64| {
            unlike((&machine(one, None), "w1"), (&machine(other, None), "w2"), busy).is_some()
        };
        assert!(!pair(0.29, 0.29, 0.3) && pair(0.31, 0.31, 0.3) && !pair(0.31, 0.31, 0.5));
        assert!(!pair(0.0, 0.14, 0.3) && pair(0.0, 0.16, 0.3) && !pair(0.0, 0.16, 0.4));
        assert!(spoilt_times(&machine(0.31, None), "w1", 0.3).unwrap().contains("31 % of the processors in w1"));
        assert_eq!(
            spoilt_times(&machine(0.1, Some(1)), "w1", 0.3).unwrap(),
            "the processor was throttled once in w1"
        );
        assert_eq!(spoilt_times(&machine(0.1, Some(0)), "w1", 0.3), None);
    }
}
