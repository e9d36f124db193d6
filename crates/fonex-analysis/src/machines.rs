//! Whether times of two runs may be compared at all.

use fonex_store::{Machine, Run};

/// Shares of the processors that others may take before times are theirs too.
const BUSY: f64 = 0.15;

/// Why times of two runs do not compare, if so.
#[must_use]
pub fn unlike_machines(first: &Run, second: &Run) -> Option<String> {
    unlike((&first.machine, &format!("run {}", first.id)), (&second.machine, &format!("run {}", second.id)))
}

/// Why times taken on two machines do not compare, if so; each with a name for what was run on it.
pub(crate) fn unlike(first: (&Machine, &str), second: (&Machine, &str)) -> Option<String> {
    let machine = |machine: &Machine| (machine.cpu.clone(), machine.cores, machine.memory_mib);
    if machine(first.0) != machine(second.0) {
        return Some("run on different machines".to_owned());
    }
    if let (Some(one), Some(other)) = (first.0.during, second.0.during) {
        if (one.others - other.others).abs() > BUSY || one.others.max(other.others) > 2.0 * BUSY {
            let percent = |share: f64| format!("{:.0} %", share * 100.0);
            return Some(format!(
                "other processes used {} of the processors in {}, and {} in {}",
                percent(one.others),
                first.1,
                percent(other.others),
                second.1
            ));
        }
        return [first, second].iter().find_map(|(machine, name)| throttled(machine, name));
    }
    None
}

/// Why times taken on a machine are not its engine's, if so.
pub(crate) fn spoilt_times(machine: &Machine, name: &str) -> Option<String> {
    let others = machine.during?.others;
    if others > 2.0 * BUSY {
        return Some(format!("other processes used {:.0} % of the processors in {name}", others * 100.0));
    }
    throttled(machine, name)
}

fn throttled(machine: &Machine, name: &str) -> Option<String> {
    let times = machine.during?.throttled.filter(|times| *times > 0)?;
    Some(format!("the processor was throttled {times} times in {name}"))
}
