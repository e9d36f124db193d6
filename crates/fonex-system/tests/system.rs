//! The same tests on every system. Programs that are started are this test program, told by a variable what to do.
#![allow(
    clippy::unwrap_used,
    clippy::print_stdout,
    clippy::zombie_processes,
    reason = "tests; programs are reaped by what is tested"
)]

use std::fs::File;
use std::io::{BufRead, BufReader, Read, Write};
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};

use fonex_system::{
    TreeUsage, end, failure, forget, is_locked, is_running, lock_byte, machine, open_plain, reap, start,
    wait_until_exited,
};

const ROLE: &str = "FONEX_SYSTEM_ROLE";

/// Not a test of its own: what a started program does.
#[test]
fn role() {
    let Ok(role) = std::env::var(ROLE) else { return };
    let mut line = String::new();
    match role.split_once(' ').unwrap_or((&role, "")) {
        ("ends", code) => std::process::exit(code.parse().unwrap()),
        ("works", _) => {
            let started = Instant::now();
            let mut sum = 0_u64;
            while started.elapsed() < Duration::from_millis(400) {
                sum = std::hint::black_box(sum.wrapping_mul(31) + 7);
            }
            println!("worked");
            std::io::stdin().read_line(&mut line).unwrap();
        }
        ("waits", _) => {
            println!("waits");
            std::io::stdin().read_line(&mut line).unwrap();
        }
        ("starts", _) => {
            let mut below = program("waits").spawn().unwrap();
            // Whoever waits for a program closes what it reads from first, and it would end by itself.
            let held = below.stdin.take();
            println!("below {}", below.id());
            below.wait().unwrap();
            drop(held);
        }
        ("locks", path) => {
            let file = File::options().write(true).open(path).unwrap();
            println!("locked {}", lock_byte(&file, 7, false).unwrap());
            std::io::stdin().read_line(&mut line).unwrap();
        }
        (other, _) => panic!("{other}"),
    }
    std::process::exit(0);
}

fn program(role: &str) -> Command {
    let mut command = Command::new(std::env::current_exe().unwrap());
    command.args(["--exact", "role", "--nocapture"]).env(ROLE, role);
    command.stdin(Stdio::piped()).stdout(Stdio::piped()).stderr(Stdio::null());
    command
}

/// What it says on a line that holds this word.
fn said(child: &mut Child, word: &str) -> String {
    let out = BufReader::new(child.stdout.as_mut().unwrap());
    let line = out.lines().map(Result::unwrap).find(|line| line.contains(word)).unwrap();
    line[line.find(word).unwrap()..].trim().to_owned()
}

fn until_gone(pid: u32) {
    let started = Instant::now();
    while is_running(pid) && !is_zombie(pid) {
        assert!(started.elapsed() < Duration::from_secs(300), "{pid} lives on");
        std::thread::yield_now();
    }
}

/// One that ended, and that nobody has waited for yet.
fn is_zombie(pid: u32) -> bool {
    std::fs::read_to_string(format!("/proc/{pid}/stat")).is_ok_and(|stat| stat.contains(") Z "))
}

#[test]
fn an_end_is_told_with_what_was_used() {
    for code in [0, 3] {
        let child = start(&mut program(&format!("ends {code}"))).unwrap();
        wait_until_exited(child.id());
        forget(child.id());
        let reaped = reap(child.id());
        assert_eq!(reaped.status.code(), Some(code));
        assert_eq!(failure(reaped.status), (code == 3).then(|| "the program ended with exit code 3".to_owned()));
        assert!(reaped.cpu_s < 30.0, "{reaped:?}");
        match reaped.peak_memory_kib {
            Some(kib) => assert!(kib > 100, "{kib}"),
            // Wine does not say it of a program that has ended.
            None => assert_eq!(std::env::consts::OS, "windows"),
        }
    }
}

#[test]
fn work_is_counted_while_it_goes_on_and_at_its_end() {
    let mut child = start(&mut program("works")).unwrap();
    said(&mut child, "worked");
    // Not every system tells of a running program and its children.
    match TreeUsage::of(child.id()) {
        Some(TreeUsage { cpu_s, .. }) => assert!(cpu_s > 0.1, "{cpu_s}"),
        None => assert_eq!(std::env::consts::OS, "macos"),
    }
    drop(child.stdin.take());
    wait_until_exited(child.id());
    forget(child.id());
    let reaped = reap(child.id());
    assert!(reaped.cpu_s > 0.1 && reaped.status.success(), "{reaped:?}");
    assert_eq!(TreeUsage::of(child.id()), None);
}

#[test]
fn what_a_program_started_is_ended_with_it() {
    let mut child = start(&mut program("starts")).unwrap();
    let below: u32 = said(&mut child, "below").trim_start_matches("below ").parse().unwrap();
    assert!(is_running(below) && is_running(child.id()));
    end(child.id());
    forget(child.id());
    assert!(failure(reap(child.id()).status).is_some());
    until_gone(below);
}

#[test]
fn one_process_alone_holds_a_byte_until_it_ends() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("locks");
    let own = File::create(&path).unwrap();
    assert!(!is_locked(&own, 7));
    let mut child = program(&format!("locks {}", path.display())).spawn().unwrap();
    assert_eq!(said(&mut child, "locked"), "locked true");
    assert!(is_locked(&own, 7) && !is_locked(&own, 8));
    assert!(!lock_byte(&own, 7, false).unwrap());
    assert!(lock_byte(&own, 8, false).unwrap(), "another byte is another lock");
    child.kill().unwrap();
    child.wait().unwrap();
    // Waited for: a system may let go a moment after the end.
    assert!(lock_byte(&own, 7, true).unwrap());
    let other = File::options().write(true).open(&path).unwrap();
    assert!(!lock_byte(&other, 7, false).unwrap(), "another open file of this process is another holder");
    drop(own);
    assert!(lock_byte(&other, 7, true).unwrap());
}

#[test]
fn only_plain_files_are_opened() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("a");
    File::create(&path).unwrap().write_all(b"12345").unwrap();
    let mut text = String::new();
    open_plain(&path).unwrap().read_to_string(&mut text).unwrap();
    assert_eq!(text, "12345");
    assert_eq!(open_plain(folder.path()).unwrap_err().kind(), std::io::ErrorKind::IsADirectory);
    assert_eq!(open_plain(&folder.path().join("b")).unwrap_err().kind(), std::io::ErrorKind::NotFound);
    let device = if cfg!(windows) { "NUL" } else { "/dev/zero" };
    assert!(open_plain(device.as_ref()).unwrap_err().to_string().contains("device"));
}

#[test]
fn a_machine_tells_of_itself() {
    let machine = machine::described();
    assert!(!machine.cpu.is_empty() && !machine.os.is_empty(), "{machine:?}");
    assert!(machine.memory_kib.is_some_and(|kib| kib > 1 << 16), "{machine:?}");
    assert!(machine::host_name().is_some_and(|name| !name.contains('\n')));
    let before = machine::own_processor_s().unwrap();
    let started = Instant::now();
    let mut sum = 0_u64;
    while started.elapsed() < Duration::from_millis(300) {
        sum = std::hint::black_box(sum.wrapping_mul(31) + 7);
    }
    assert!(machine::own_processor_s().unwrap() > before);
    if let Some(times) = machine::times() {
        assert!(times.all >= times.busy && times.busy > 0.0 && times.own > 0.0, "{times:?}");
    }
    assert!(is_running(std::process::id()) && !is_running(0));
}

#[test]
fn a_limit_on_open_files_is_never_lowered() {
    let before = fonex_system::allow_open_files(0);
    assert!(fonex_system::allow_open_files(before + 10) >= before);
}
