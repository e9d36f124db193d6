//! What the system knows of an open connection.
#![allow(unsafe_code)]

use std::os::fd::{AsRawFd, RawFd};

/// The number of an open socket. It may be asked about only while the socket is open.
#[derive(Debug, Clone, Copy)]
pub struct Socket(RawFd);

impl Socket {
    /// The number of this connection.
    pub fn of(stream: &impl AsRawFd) -> Self {
        Self(stream.as_raw_fd())
    }

    /// Whether the other side is known to have neither hung up nor sent anything that is still to be read.
    #[must_use]
    pub fn is_quiet(self) -> bool {
        let mut byte = 0_u8;
        // SAFETY: there is room for the one byte, and it stays in its place.
        let came = unsafe { libc::recv(self.0, (&raw mut byte).cast(), 1, libc::MSG_PEEK | libc::MSG_DONTWAIT) };
        came < 0 && std::io::Error::last_os_error().kind() == std::io::ErrorKind::WouldBlock
    }

    /// Bytes of ours that the other side's system has acknowledged (`tcpi_bytes_acked`); none where the system does not say.
    #[cfg(target_os = "linux")]
    #[must_use]
    pub fn acknowledged(self) -> Option<u64> {
        // Where it stands in the structure of linux/tcp.h, of which libc knows an older and shorter form.
        const BYTES_ACKED: usize = 120;
        let mut info = [0_u64; 32];
        let mut size = size_of_val(&info) as libc::socklen_t;
        // SAFETY: the buffer is as long as said, and lives for the whole call.
        let told = unsafe {
            libc::getsockopt(self.0, libc::IPPROTO_TCP, libc::TCP_INFO, info.as_mut_ptr().cast(), &raw mut size)
        };
        (told == 0 && size as usize >= BYTES_ACKED + 8).then(|| info[BYTES_ACKED / 8])
    }

    /// Bytes of ours that the other side's system has acknowledged; this system does not say.
    #[cfg(not(target_os = "linux"))]
    #[must_use]
    pub const fn acknowledged(self) -> Option<u64> {
        None
    }
}

#[cfg(test)]
mod tests {
    use std::io::{Read, Write};
    use std::net::{TcpListener, TcpStream};

    use super::*;

    #[test]
    fn a_socket_is_quiet_until_something_comes_and_never_after_the_end() {
        let listener = TcpListener::bind(("127.0.0.1", 0)).unwrap();
        let mut ours = TcpStream::connect(listener.local_addr().unwrap()).unwrap();
        let mut theirs = listener.accept().unwrap().0;
        let socket = Socket::of(&ours);
        assert!(socket.is_quiet());
        theirs.write_all(b"news").unwrap();
        // Waits until they are there, and leaves them.
        assert_eq!(ours.peek(&mut [0; 4]).unwrap(), 4);
        assert!(!socket.is_quiet());
        ours.read_exact(&mut [0; 4]).unwrap();
        assert!(socket.is_quiet(), "looking takes nothing away");
        drop(theirs);
        assert_eq!(ours.read(&mut [0; 4]).unwrap(), 0);
        assert!(!socket.is_quiet());
    }
}
