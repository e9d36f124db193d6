//! Windows: job objects, locks of byte ranges, console events.
#![allow(unsafe_code)]

pub(crate) mod files;
pub(crate) mod interrupts;
pub(crate) mod programs;

pub(crate) mod memory {
    //! How memory is backed.

    /// Memory comes in small pages here.
    pub const fn come_in_small_pages() {}
}

pub(crate) mod open_files {
    //! How many files this process may have open.

    /// There is no limit to be raised: as many as are wanted.
    #[must_use]
    pub const fn allow_open_files(wanted: u64) -> u64 {
        wanted
    }
}

pub(crate) mod sockets {
    //! What the system knows of an open connection.

    use std::os::windows::io::AsRawSocket;

    /// The number of an open socket.
    #[derive(Debug, Clone, Copy)]
    pub struct Socket;

    impl Socket {
        /// The number of this connection.
        pub fn of(_: &impl AsRawSocket) -> Self {
            Self
        }

        /// Whether the other side is known to have neither hung up nor sent anything; this system does not say.
        #[must_use]
        pub const fn is_quiet(self) -> bool {
            false
        }

        /// Bytes of ours that the other side's system has acknowledged; this system does not say.
        #[must_use]
        pub const fn acknowledged(self) -> Option<u64> {
            None
        }
    }
}
