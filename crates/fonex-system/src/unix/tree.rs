//! What a running program and everything it started used, from the kernel's tables (proc(5)).

use std::fs::{read_dir, read_to_string};

use crate::TreeUsage;

/// The kernel counts processor time in hundredths of a second on Linux, whatever its own clock is.
const TICKS_A_SECOND: f64 = 100.0;
/// A program that starts more than this is not followed to the end.
const MOST: usize = 10_000;

/// None where the program is gone, or the kernel does not list children.
pub(crate) fn usage(pid: u32) -> Option<TreeUsage> {
    let mut usage = TreeUsage { cpu_s: 0.0, peak_memory_kib: None };
    let mut open = vec![pid];
    let mut seen = 0;
    while let Some(next) = open.pop() {
        seen += 1;
        let Some(cpu_s) = cpu_s(next) else {
            // A descendant that ended meanwhile is counted by who waited for it.
            if next == pid {
                return None;
            }
            continue;
        };
        usage.cpu_s += cpu_s;
        usage.peak_memory_kib = usage.peak_memory_kib.max(peak_memory_kib(next));
        match children(next) {
            Some(children) if seen < MOST => open.extend(children),
            Some(_) => {}
            None if next == pid => return None,
            None => {}
        }
    }
    Some(usage)
}

/// Everything a process has started, directly or not, that still hangs below it.
pub(super) fn descendants(pid: u32) -> Vec<u32> {
    let (mut all, mut open) = (Vec::new(), vec![pid]);
    while let Some(next) = open.pop().filter(|_| all.len() < MOST) {
        let below = children(next).unwrap_or_default();
        all.extend(&below);
        open.extend(below);
    }
    all
}

/// Processor seconds of a process and of those of its children that it waited for.
fn cpu_s(pid: u32) -> Option<f64> {
    let stat = read_to_string(format!("/proc/{pid}/stat")).ok()?;
    let fields: Vec<&str> = stat.rsplit_once(')')?.1.split_whitespace().collect();
    // Fields 14 to 17, counted here from the third.
    let ticks: u64 = (11..15).map(|i| fields.get(i)?.parse::<u64>().ok()).sum::<Option<u64>>()?;
    Some(ticks as f64 / TICKS_A_SECOND)
}

fn peak_memory_kib(pid: u32) -> Option<u64> {
    let status = read_to_string(format!("/proc/{pid}/status")).ok()?;
    let line = status.lines().find_map(|line| line.strip_prefix("VmHWM:"))?;
    line.trim().strip_suffix("kB")?.trim().parse().ok()
}

/// The children that any of its threads started.
fn children(pid: u32) -> Option<Vec<u32>> {
    let mut all = Vec::new();
    for thread in read_dir(format!("/proc/{pid}/task")).ok()?.flatten() {
        let listed = read_to_string(thread.path().join("children")).ok()?;
        all.extend(listed.split_whitespace().filter_map(|pid| pid.parse::<u32>().ok()));
    }
    Some(all)
}

#[cfg(test)]
mod tests {
    use std::io::{BufRead, BufReader, Write};
    use std::process::{Command, Stdio};

    use super::*;

    /// A shell whose child works, and then a grandchild that is still running.
    #[test]
    fn what_children_use_is_counted() {
        let work = "i=0; while [ $i -lt 200000 ]; do i=$((i+1)); done";
        let script = format!("({work}); echo one; (({work}; echo two; read line); true); true");
        let mut shell = Command::new("sh")
            .args(["-c", &script])
            .stdin(Stdio::piped())
            .stdout(Stdio::piped())
            .spawn()
            .expect("there is a shell");
        let mut lines = BufReader::new(shell.stdout.take().expect("it is piped")).lines();
        let mut next = || lines.next().expect("the shell says a line").expect("it is text");
        assert_eq!(next(), "one");
        let waited_for = TreeUsage::of(shell.id()).expect("it runs");
        assert!(waited_for.cpu_s > 0.05, "{waited_for:?}");
        assert_eq!(next(), "two");
        let running = TreeUsage::of(shell.id()).expect("it runs");
        assert!(running.cpu_s > 1.4 * waited_for.cpu_s, "{waited_for:?} {running:?}");
        assert!(running.peak_memory_kib.expect("it has some") > 100);
        shell.stdin.take().expect("it is piped").write_all(b"go\n").expect("it reads");
        shell.wait().expect("it ends");
        assert_eq!(TreeUsage::of(shell.id()), None);
    }
}
