//! Services that attack whoever asks them. Each connection is served by a thread of its own until the other side hangs up.

use std::io::{BufRead, BufReader, Read, Write};
use std::net::{TcpListener, TcpStream};
use std::thread;
use std::time::Duration;

use flate2::Compression;
use flate2::write::GzEncoder;
use tokio_tungstenite::tungstenite::handshake::derive_accept_key;

/// What a service does once it has read a request; an error means that the client has hung up.
type Serve = fn(&mut TcpStream) -> std::io::Result<()>;

/// Starts a service; gives its address.
pub fn start(serve: Serve) -> String {
    let listener = TcpListener::bind("127.0.0.1:0").expect("there is a port");
    let address = listener.local_addr().expect("it has one").to_string();
    thread::spawn(move || {
        for mut stream in listener.incoming().flatten() {
            thread::spawn(move || {
                let mut reader = BufReader::new(stream.try_clone()?);
                let key = read_request(&mut reader)?;
                if let Some(key) = key {
                    let accept = derive_accept_key(key.as_bytes());
                    write!(
                        stream,
                        "HTTP/1.1 101 Switching Protocols\r\nUpgrade: websocket\r\nConnection: Upgrade\r\nSec-WebSocket-Accept: {accept}\r\n\r\n"
                    )?;
                }
                serve(&mut stream)
            });
        }
    });
    address
}

/// Reads a request with its body; gives the key of one for a WebSocket.
fn read_request(reader: &mut BufReader<TcpStream>) -> std::io::Result<Option<String>> {
    let (mut length, mut key) = (0, None);
    loop {
        let mut line = String::new();
        if reader.read_line(&mut line)? == 0 || line == "\r\n" {
            break;
        }
        let (name, value) = line.split_once(':').unwrap_or((&line, ""));
        match name.to_ascii_lowercase().as_str() {
            "content-length" => length = value.trim().parse().unwrap_or(0),
            "sec-websocket-key" => key = Some(value.trim().to_owned()),
            _ => {}
        }
    }
    std::io::copy(&mut reader.take(length), &mut std::io::sink())?;
    Ok(key)
}

fn json_head(stream: &mut TcpStream, length: usize) -> std::io::Result<()> {
    write!(stream, "HTTP/1.1 200 OK\r\nContent-Type: application/json\r\nContent-Length: {length}\r\n\r\n")
}

/// The same piece, over and over, as a JSON array of so many bytes.
fn array(stream: &mut TcpStream, piece: &str, bytes: usize) -> std::io::Result<()> {
    let many = piece.repeat(1 << 16);
    let times = bytes / many.len();
    json_head(stream, 2 + times * many.len() + 1)?;
    stream.write_all(b"[")?;
    (0..times).try_for_each(|_| stream.write_all(many.as_bytes()))?;
    stream.write_all(b"0]")
}

pub fn objects(stream: &mut TcpStream) -> std::io::Result<()> {
    array(stream, "{\"\":0},", 31 << 20)
}

pub fn arrays(stream: &mut TcpStream) -> std::io::Result<()> {
    array(stream, "[],", 31 << 20)
}

pub fn numbers(stream: &mut TcpStream) -> std::io::Result<()> {
    array(stream, "0,", 31 << 20)
}

pub fn brackets(stream: &mut TcpStream) -> std::io::Result<()> {
    json_head(stream, 8 << 20)?;
    stream.write_all("[".repeat(8 << 20).as_bytes())
}

/// Four gigabytes of spaces in four megabytes.
pub fn unpacking(stream: &mut TcpStream) -> std::io::Result<()> {
    let mut packer = GzEncoder::new(Vec::new(), Compression::best());
    let spaces = vec![b' '; 1 << 20];
    (0..256).try_for_each(|_| packer.write_all(&spaces))?;
    let once = packer.finish()?;
    let length = once.len() * 16;
    write!(stream, "HTTP/1.1 200 OK\r\nContent-Encoding: gzip\r\nContent-Length: {length}\r\n\r\n")?;
    (0..16).try_for_each(|_| stream.write_all(&once))
}

pub fn endless_head(stream: &mut TcpStream) -> std::io::Result<()> {
    stream.write_all(b"HTTP/1.1 200 OK\r\n")?;
    loop {
        stream.write_all(b"X-More: and more\r\n")?;
    }
}

fn chunk(stream: &mut TcpStream, bytes: &[u8]) -> std::io::Result<()> {
    write!(stream, "{:x}\r\n", bytes.len())?;
    stream.write_all(bytes)?;
    stream.write_all(b"\r\n")
}

fn chunked(stream: &mut TcpStream, kind: &str) -> std::io::Result<()> {
    write!(stream, "HTTP/1.1 200 OK\r\nContent-Type: {kind}\r\nTransfer-Encoding: chunked\r\n\r\n")
}

pub fn endless_body(stream: &mut TcpStream) -> std::io::Result<()> {
    chunked(stream, "application/json")?;
    let spaces = vec![b' '; 1 << 16];
    loop {
        chunk(stream, &spaces)?;
    }
}

pub fn drip(stream: &mut TcpStream) -> std::io::Result<()> {
    chunked(stream, "application/json")?;
    loop {
        chunk(stream, b" ")?;
        thread::sleep(Duration::from_millis(50));
    }
}

pub fn endless_events(stream: &mut TcpStream) -> std::io::Result<()> {
    chunked(stream, "text/event-stream")?;
    let events = b"data: 1\n\n".repeat(1 << 12);
    loop {
        chunk(stream, &events)?;
    }
}

/// Two megabytes of FLAC that hold two billion samples of silence.
pub fn silence(stream: &mut TcpStream) -> std::io::Result<()> {
    let flac = endless_flac(2 << 20);
    write!(stream, "HTTP/1.1 200 OK\r\nContent-Type: audio/flac\r\nContent-Length: {}\r\n\r\n", flac.len())?;
    stream.write_all(&flac)
}

/// FLAC (RFC 9639) of about so many bytes: frames of 65,535 samples that are all the same.
fn endless_flac(bytes: usize) -> Vec<u8> {
    let mut flac = b"fLaC".to_vec();
    // The only metadata block: 34 bytes, blocks of 65,535, no frame sizes, 48,000 Hz, one channel, 16 bits, length unknown.
    flac.extend([0x80, 0, 0, 34, 0xff, 0xff, 0xff, 0xff, 0, 0, 0, 0, 0, 0]);
    flac.extend([0x0b, 0xb8, 0x00, 0xf0, 0, 0, 0, 0]);
    flac.extend([0; 16]);
    for number in 0_u32.. {
        if flac.len() >= bytes {
            break;
        }
        // Fixed block size, stated behind the number in 16 bits; rate and width from the metadata; one channel.
        let mut frame = vec![0xff, 0xf8, 0x70, 0x00];
        let character = char::from_u32(if number < 0xd800 { number } else { number + 0x800 }).expect("there are few");
        frame.extend(character.encode_utf8(&mut [0; 4]).bytes());
        frame.extend([0xff, 0xfe]);
        frame.push(crc8(&frame));
        // A constant subframe of the value 0.
        frame.extend([0x00, 0x00, 0x00]);
        let sum = crc16(&frame);
        frame.extend(sum.to_be_bytes());
        flac.extend(frame);
    }
    flac
}

fn crc8(bytes: &[u8]) -> u8 {
    bytes
        .iter()
        .fold(0, |sum, byte| (0..8).fold(sum ^ byte, |sum, _| (sum << 1) ^ if sum & 0x80 != 0 { 7 } else { 0 }))
}

fn crc16(bytes: &[u8]) -> u16 {
    bytes.iter().fold(0, |sum, byte| {
        (0..8).fold(sum ^ (u16::from(*byte) << 8), |sum, _| (sum << 1) ^ if sum & 0x8000 != 0 { 0x8005 } else { 0 })
    })
}

/// A frame of a WebSocket with a short payload.
fn frame(opcode: u8, payload: &[u8]) -> Vec<u8> {
    assert!(payload.len() < 126);
    [&[opcode, payload.len() as u8], payload].concat()
}

fn forever(stream: &mut TcpStream, frame: &[u8]) -> std::io::Result<()> {
    let many = frame.repeat(1 << 12);
    loop {
        stream.write_all(&many)?;
    }
}

pub fn pings(stream: &mut TcpStream) -> std::io::Result<()> {
    forever(stream, &frame(0x89, b"are you there? are you there? are you there? are you there?"))
}

pub fn finals(stream: &mut TcpStream) -> std::io::Result<()> {
    forever(stream, &frame(0x81, br#"{"final":true,"text":"a"}"#))
}

pub fn interims(stream: &mut TcpStream) -> std::io::Result<()> {
    forever(stream, &frame(0x81, br#"{"final":false,"text":""}"#))
}

pub fn binary(stream: &mut TcpStream) -> std::io::Result<()> {
    forever(stream, &frame(0x82, b"0123456789"))
}

/// One message in fragments that never ends.
pub fn fragments(stream: &mut TcpStream) -> std::io::Result<()> {
    stream.write_all(&frame(0x01, b"a"))?;
    forever(stream, &frame(0x00, b"aaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaa"))
}

/// One message that says to be of the largest size there is.
pub fn large_message(stream: &mut TcpStream) -> std::io::Result<()> {
    stream.write_all(&[0x81, 127, 0x7f, 0xff, 0xff, 0xff, 0xff, 0xff, 0xff, 0xff])?;
    let bytes = vec![b' '; 1 << 16];
    loop {
        stream.write_all(&bytes)?;
    }
}

pub fn many_objects(stream: &mut TcpStream) -> std::io::Result<()> {
    let objects = format!("[{}0]", "{\"\":0},".repeat(4 << 20));
    let mut message = vec![0x81, 127];
    message.extend((objects.len() as u64).to_be_bytes());
    message.extend(objects.as_bytes());
    stream.write_all(&message)?;
    forever(stream, &frame(0x89, b""))
}

/// Says nothing at all.
pub fn nothing(stream: &mut TcpStream) -> std::io::Result<()> {
    std::io::copy(stream, &mut std::io::sink()).map(|_| ())
}
