//! SHA-256 checksums as lower-case hexadecimal, to tell whether two runs saw the same bytes.

use std::io::{self, Read};
use std::path::Path;

use crate::regular;
use sha2::{Digest, Sha256};

/// The checksum of some bytes.
#[must_use]
pub fn of_bytes(bytes: &[u8]) -> String {
    hexadecimal(&Sha256::digest(bytes))
}

/// The checksum of a file, read in pieces.
///
/// # Errors
/// When the file cannot be read.
pub fn of_file(path: &Path) -> io::Result<String> {
    let mut file = regular::open(path)?;
    let mut hasher = Sha256::new();
    let mut buffer = vec![0; 1 << 16];
    loop {
        match file.read(&mut buffer)? {
            0 => return Ok(hexadecimal(&hasher.finalize())),
            read => hasher.update(&buffer[..read]),
        }
    }
}

fn hexadecimal(bytes: &[u8]) -> String {
    bytes.iter().map(|byte| format!("{byte:02x}")).collect()
}
