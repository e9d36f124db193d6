//! What a machine tells of itself; what it does not tell is left open.

#[cfg(target_os = "linux")]
#[path = "linux.rs"]
mod own;
#[cfg(all(unix, not(target_os = "linux")))]
#[path = "mac.rs"]
mod own;
#[cfg(windows)]
#[path = "windows.rs"]
mod own;

/// A machine as its system describes it.
#[derive(Debug, Clone, PartialEq)]
pub struct Described {
    /// The processor's name; the kind of its instructions where the system does not say.
    pub cpu: String,
    /// Memory in KiB.
    pub memory_kib: Option<u64>,
    /// The system with its version.
    pub os: String,
    /// Average number of programs that wanted a processor in the last minute.
    pub load_1m: Option<f64>,
}

/// Processor time: of all processors since the system started, busy and in all, and of this process with its children, in one unit.
#[derive(Debug, Clone, Copy)]
pub struct Times {
    /// Of all processors, working.
    pub busy: f64,
    /// Of all processors, working or not.
    pub all: f64,
    /// Of this process and its children.
    pub own: f64,
}

/// This machine.
#[must_use]
pub fn described() -> Described {
    own::described()
}

/// Its name in the network.
#[must_use]
pub fn host_name() -> Option<String> {
    own::host_name().map(|name| name.trim().to_owned()).filter(|name| !name.is_empty())
}

/// What its processors have done so far; none where the system does not say, as macOS does not.
#[must_use]
pub fn times() -> Option<Times> {
    own::times()
}

/// Processor seconds this process has used.
#[must_use]
pub fn own_processor_s() -> Option<f64> {
    own::own_processor_s()
}

/// How often the processors were slowed down since the system started; none where it does not count that.
#[must_use]
pub fn throttled() -> Option<u64> {
    own::throttled()
}
