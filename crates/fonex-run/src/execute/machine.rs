//! What is recorded of the machine and the time.

use fonex_store::Machine;

/// The current time, RFC 3339 in UTC, to the second.
pub fn now() -> String {
    jiff::Timestamp::now().strftime("%Y-%m-%dT%H:%M:%SZ").to_string()
}

/// The machine as the system describes it; what it does not tell stays empty.
pub fn this_machine() -> Machine {
    let described = fonex_system::machine::described();
    Machine {
        cpu: described.cpu,
        cores: std::thread::available_parallelism().map_or(1, std::num::NonZero::get),
        memory_mib: described.memory_kib.unwrap_or(0) / 1024,
        os: described.os,
        during: None,
        load_1m: described.load_1m,
    }
}
