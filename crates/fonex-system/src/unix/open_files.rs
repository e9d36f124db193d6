//! How many files this process may have open. The standard library does not ask the system for it, so two system calls are
//! made here.
#![allow(unsafe_code)]

/// Raises the number of files that this process may have open to `wanted`, as far as the system lets it, and gives how many
/// it may now have.
#[must_use]
pub fn allow_open_files(wanted: u64) -> u64 {
    let mut limit = libc::rlimit { rlim_cur: 0, rlim_max: 0 };
    // SAFETY: `limit` is valid for writes.
    if unsafe { libc::getrlimit(libc::RLIMIT_NOFILE, &raw mut limit) } != 0 {
        return wanted;
    }
    if limit.rlim_cur < wanted && limit.rlim_cur < limit.rlim_max {
        let raised = libc::rlimit { rlim_cur: wanted.min(limit.rlim_max), ..limit };
        // SAFETY: `raised` is valid for reads.
        if unsafe { libc::setrlimit(libc::RLIMIT_NOFILE, &raw const raised) } == 0 {
            return raised.rlim_cur;
        }
    }
    limit.rlim_cur
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_limit_is_raised_as_far_as_may_be_and_never_lowered() {
        let before = allow_open_files(0);
        assert_eq!(allow_open_files(before / 2), before);
        let more = allow_open_files(before + 10);
        assert!(more == before || more == before + 10);
        assert!(allow_open_files(u64::MAX) >= more);
    }
}
