//! What the system knows of an open connection.
#![allow(unsafe_code)]

use std::os::fd::{AsRawFd, RawFd};

use crate::Standing;

/// The number of an open socket. It may be asked about only while the socket is open.
#[derive(Debug, Clone, Copy)]
pub struct Socket(#[cfg_attr(not(target_os = "linux"), expect(dead_code, reason = "only Linux is asked"))] RawFd);

impl Socket {
    /// The number of this connection.
    pub fn of(stream: &impl AsRawFd) -> Self {
        Self(stream.as_raw_fd())
    }

    /// How the connection stands; none where the system does not say.
    #[cfg(target_os = "linux")]
    #[must_use]
    pub fn standing(self) -> Option<Standing> {
        // Where they stand in the structure of linux/tcp.h, of which libc knows an older and shorter form.
        const STATE: usize = 0;
        const BYTES_ACKED: usize = 120;
        const ESTABLISHED: u8 = 1;
        let mut info = [0_u64; 32];
        let mut size = size_of_val(&info) as libc::socklen_t;
        // SAFETY: the buffer is as long as said, and lives for the whole call.
        let told = unsafe {
            libc::getsockopt(self.0, libc::IPPROTO_TCP, libc::TCP_INFO, info.as_mut_ptr().cast(), &raw mut size)
        };
        (told == 0 && size as usize >= BYTES_ACKED + 8).then(|| Standing {
            open: info[0].to_ne_bytes()[STATE] == ESTABLISHED,
            acknowledged: info[BYTES_ACKED / 8],
        })
    }

    /// How the connection stands; this system does not say.
    #[cfg(not(target_os = "linux"))]
    #[must_use]
    pub const fn standing(self) -> Option<Standing> {
        None
    }
}
