//! Linux, from the tables of its kernel (proc(5)).

use std::fs;

use super::{Described, Times};

const TICKS_A_SECOND: f64 = 100.0;

fn read(path: &str) -> String {
    fs::read_to_string(path).unwrap_or_default()
}

pub(super) fn described() -> Described {
    let field = |text: &str, name: &str| {
        let line = text.lines().find(|line| line.split(':').next().is_some_and(|key| key.trim() == name))?;
        Some(line.split_once(':')?.1.trim().to_owned())
    };
    let release = read("/etc/os-release");
    let name = release.lines().find_map(|line| line.strip_prefix("PRETTY_NAME=")).unwrap_or(std::env::consts::OS);
    Described {
        cpu: field(&read("/proc/cpuinfo"), "model name").unwrap_or_else(|| std::env::consts::ARCH.to_owned()),
        memory_kib: field(&read("/proc/meminfo"), "MemTotal").and_then(|kib| kib.split(' ').next()?.parse().ok()),
        os: format!("{} (kernel {})", name.trim_matches('"'), read("/proc/sys/kernel/osrelease").trim()),
        load_1m: read("/proc/loadavg").split(' ').next().and_then(|load| load.parse().ok()),
    }
}

pub(super) fn host_name() -> Option<String> {
    fs::read_to_string("/proc/sys/kernel/hostname").ok()
}

pub(super) fn times() -> Option<Times> {
    let stat = fs::read_to_string("/proc/stat").ok()?;
    let numbers: Vec<f64> =
        stat.lines().next()?.split_whitespace().skip(1).filter_map(|number| number.parse().ok()).collect();
    // user, nice, system, idle, iowait, irq, softirq, steal
    let all: f64 = numbers.iter().take(8).sum();
    let idle = numbers.get(3)? + numbers.get(4)?;
    // utime, stime, and those of children that have ended
    let own = ticks("/proc/self/stat", 4)? + of_children();
    Some(Times { busy: all - idle, all, own })
}

/// The sum of some of a process's times, from utime on.
fn ticks(path: &str, times: usize) -> Option<f64> {
    let stat = fs::read_to_string(path).ok()?;
    // The name in brackets may hold anything; the numbers stand behind it.
    let numbers: Vec<&str> = stat.rsplit_once(')')?.1.split_whitespace().collect();
    (11..11 + times).map(|at| numbers.get(at)?.parse::<f64>().ok()).sum()
}

/// Ticks of the children that still run, such as workers.
fn of_children() -> f64 {
    let children = fs::read_to_string("/proc/thread-self/children")
        .or_else(|_| fs::read_to_string(format!("/proc/self/task/{}/children", std::process::id())))
        .unwrap_or_default();
    children.split_whitespace().filter_map(|pid| ticks(&format!("/proc/{pid}/stat"), 4)).sum()
}

pub(super) fn own_processor_s() -> Option<f64> {
    Some(ticks("/proc/self/stat", 2)? / TICKS_A_SECOND)
}

pub(super) fn throttled() -> Option<u64> {
    let cpus = fs::read_dir("/sys/devices/system/cpu").ok()?;
    let counts = cpus.filter_map(|cpu| {
        let path = cpu.ok()?.path().join("thermal_throttle/core_throttle_count");
        fs::read_to_string(path).ok()?.trim().parse::<u64>().ok()
    });
    counts.reduce(|a, b| a + b)
}
