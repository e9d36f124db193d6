//! The programs that this process started and that have not ended: nothing of them outlives it, however it ends.
//!
//! A keeper of our own, a few lines of shell in a group of its own, is told which groups there are. When its input ends, because this
//! process ended or was killed, it ends them, what else is in the [`Fence`], and whatever carries this process's mark in its
//! environment, in whichever group or session it is.

use std::collections::BTreeSet;
use std::io::{self, Write};
use std::os::unix::process::CommandExt;
use std::process::{Child, ChildStdin, Command, Stdio};
use std::sync::{Mutex, MutexGuard, OnceLock};

use super::fence::Fence;
use super::reap;
use super::tree::descendants;

/// Set for every program, so that what leaves its group is known as well.
const MARK: &str = "FONEX_STARTED_BY";

/// Ends what is on the last line it was told, what is in the fence, and what carries the mark.
///
/// Looked for again until none is found: one that is about to be ended may just be starting another.
/// The group of one whose leader has ended is ended too, for there may be others in it that carry no mark, but not the group that this
/// process is in.
const KEEPER: &str = r#"trap '' HUP INT TERM QUIT
own=$1 inside=$2 outside=$3 groups=
[ -n "$inside" ] && echo $$ >"$outside/cgroup.procs"
while read -r line; do groups=$line; done
for group in $groups; do kill -9 "-$group" 2>/dev/null; kill -9 "$group" 2>/dev/null; done
if [ -n "$inside" ]; then
  echo 1 >"$inside/cgroup.kill"
  for turn in 1 2 3 4 5 6 7 8 9 10; do
    find "$inside" -depth -type d -exec rmdir {} ';' 2>/dev/null
    [ -d "$inside" ] || break
    sleep 0.1
  done
fi
for turn in 1 2 3 4 5 6 7 8 9 10 11 12 13 14 15 16 17 18 19 20; do
  found=$(grep -lsF "FONEX_STARTED_BY=$0" /proc/[0-9]*/environ)
  [ -n "$found" ] || exit 0
  for environ in $found; do
    pid=${environ#/proc/}; pid=${pid%/environ}
    stat=$(cat "/proc/$pid/stat" 2>/dev/null) || continue
    set -- ${stat##*) }
    [ "$3" = "$own" ] || [ -n "$(tr -d '\0' 2>/dev/null <"/proc/$3/environ")" ] || kill -9 "-$3" 2>/dev/null
    kill -9 "-$pid" 2>/dev/null; kill -9 "$pid" 2>/dev/null
  done
done"#;

struct Wards {
    leaders: BTreeSet<u32>,
    keeper: Option<ChildStdin>,
    fence: Option<Fence>,
}

impl Wards {
    fn tell_keeper(&mut self) {
        let line: String = self.leaders.iter().map(|pid| format!("{pid} ")).collect();
        // A keeper that is gone can only be done without.
        if self.keeper.as_mut().is_some_and(|keeper| writeln!(keeper, "{line}").is_err()) {
            self.keeper = None;
        }
    }
}

fn wards() -> MutexGuard<'static, Wards> {
    static WARDS: Mutex<Wards> = Mutex::new(Wards { leaders: BTreeSet::new(), keeper: None, fence: None });
    WARDS.lock().unwrap_or_else(std::sync::PoisonError::into_inner)
}

/// This process, as no other one is called.
fn mark() -> &'static str {
    static NAME: OnceLock<String> = OnceLock::new();
    NAME.get_or_init(|| {
        let since = std::time::SystemTime::now().duration_since(std::time::UNIX_EPOCH).unwrap_or_default();
        format!("{}-{}", std::process::id(), since.as_nanos())
    })
}

fn start_keeper(fence: Option<&Fence>) -> io::Result<ChildStdin> {
    let [inside, outside] = fence.map_or_else(Default::default, |fence| {
        [&fence.inside, &fence.outside].map(|path| path.as_os_str().to_owned())
    });
    let mut keeper = Command::new("/bin/sh")
        .args(["-c", KEEPER, mark(), &reap::own_group().to_string()])
        .args([inside, outside])
        .env_remove(MARK)
        .current_dir("/")
        .stdin(Stdio::piped())
        .stdout(Stdio::null())
        .stderr(Stdio::null())
        .process_group(0)
        .spawn()?;
    keeper.stdin.take().ok_or_else(|| io::ErrorKind::BrokenPipe.into())
}

/// Starts a program as the leader of a group of its own.
///
/// # Errors
/// When it cannot be started.
pub fn start(command: &mut Command) -> io::Result<Child> {
    command.env(MARK, mark()).process_group(0);
    let mut wards = wards();
    if wards.keeper.is_none() {
        if wards.fence.is_none() {
            wards.fence = Fence::enter();
        }
        // Without a shell on this machine only a kill that nobody can hear leaves programs behind.
        wards.keeper = start_keeper(wards.fence.as_ref()).ok();
    }
    let child = command.spawn()?;
    wards.leaders.insert(child.id());
    wards.tell_keeper();
    Ok(child)
}

/// Ends a program, its group, and its descendants in other groups. It must not have been reaped.
pub fn end(leader: u32) {
    // Before their parents are gone, by which they are found.
    let strays = descendants(leader);
    reap::kill_group(leader);
    // One that has left its own group, and what it started elsewhere.
    for pid in std::iter::once(leader).chain(strays) {
        reap::kill(pid);
    }
}

/// Forgets a program that is about to be reaped; its number may belong to another one afterwards.
pub fn forget(leader: u32) {
    let mut wards = wards();
    wards.leaders.remove(&leader);
    wards.tell_keeper();
}

/// Ends every program this process has started, at once. For the moment before it ends itself.
pub fn end_all_programs() {
    // Held until the end, so that no further one is started.
    let wards = wards();
    wards.leaders.iter().for_each(|leader| end(*leader));
    wards.fence.iter().for_each(Fence::end_the_others);
    std::mem::forget(wards);
}
