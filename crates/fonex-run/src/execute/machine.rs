//! What is recorded of the machine and the time.

use std::fs;

use fonex_store::Machine;

/// The current time, RFC 3339 in UTC, to the second.
pub fn now() -> String {
    jiff::Timestamp::now().strftime("%Y-%m-%dT%H:%M:%SZ").to_string()
}

/// The machine as the system describes it; what it does not tell stays empty.
pub fn this_machine() -> Machine {
    let field = |text: &str, name: &str| {
        let line = text.lines().find(|line| line.split(':').next().is_some_and(|key| key.trim() == name))?;
        Some(line.split_once(':')?.1.trim().to_owned())
    };
    let read = |path: &str| fs::read_to_string(path).unwrap_or_default();
    let memory_kib = field(&read("/proc/meminfo"), "MemTotal").and_then(|m| m.split(' ').next()?.parse::<u64>().ok());
    let release = read("/etc/os-release");
    let name = release.lines().find_map(|line| line.strip_prefix("PRETTY_NAME=")).unwrap_or(std::env::consts::OS);
    let kernel = read("/proc/sys/kernel/osrelease");
    Machine {
        cpu: field(&read("/proc/cpuinfo"), "model name").unwrap_or_else(|| std::env::consts::ARCH.to_owned()),
        cores: std::thread::available_parallelism().map_or(1, std::num::NonZero::get),
        memory_mib: memory_kib.unwrap_or(0) / 1024,
        os: format!("{} (kernel {})", name.trim_matches('"'), kernel.trim()),
        during: None,
        load_1m: read("/proc/loadavg").split(' ').next().and_then(|load| load.parse().ok()),
    }
}
