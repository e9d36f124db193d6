//! What engines print while somebody waits for them: told at once, to whoever wants to know.

use std::sync::OnceLock;

/// Who is told: the program, and the line it printed.
pub type Notice = fn(&str, &str);

static NOTICE: OnceLock<Notice> = OnceLock::new();

/// Sets who is told, once for the whole process.
pub fn set(notice: Notice) {
    // The first that is set stays.
    let _ = NOTICE.set(notice);
}

pub(crate) fn tell(program: &str, line: &str) {
    if let Some(notice) = NOTICE.get() {
        notice(program, &crate::cut(line));
    }
}
