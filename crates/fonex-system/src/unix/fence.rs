//! A control group (cgroup v2) around this process and everything it starts, where the machine lets it have one. What is in it cannot
//! get out by leaving its process group, its session or its environment, and is ended all at once.

use std::fs;
use std::io;
use std::path::{Path, PathBuf};

/// A control group of our own.
#[derive(Debug)]
pub(super) struct Fence {
    /// Its folder.
    pub(super) inside: PathBuf,
    /// The folder of the group this process came from.
    pub(super) outside: PathBuf,
}

/// Before the number of the process that a fence belongs to.
const NAME: &str = "fonex-";

impl Fence {
    /// Puts this process, and with it all that it starts from now on, into a group of its own. None where that cannot be done.
    pub(super) fn enter() -> Option<Self> {
        let mounts = fs::read_to_string("/proc/self/mountinfo").ok()?;
        let own = fs::read_to_string("/proc/self/cgroup").ok()?;
        let outside = folder(&mounts, &own)?;
        remove_left(&outside);
        let fence = Self { inside: outside.join(format!("{NAME}{}", std::process::id())), outside };
        fs::create_dir(&fence.inside).ok()?;
        // Kernels before 5.14 cannot end a group at once.
        let entered = fence.inside.join("cgroup.kill").exists() && put_in(&fence.inside).is_ok();
        if !entered {
            let _ = fs::remove_dir(&fence.inside);
        }
        entered.then_some(fence)
    }

    /// Leaves the group and ends everything that is still in it.
    pub(super) fn end_the_others(&self) {
        if put_in(&self.outside).is_ok() {
            let _ = fs::write(self.inside.join("cgroup.kill"), "1");
        }
    }
}

fn put_in(folder: &Path) -> io::Result<()> {
    fs::write(folder.join("cgroup.procs"), std::process::id().to_string())
}

/// The folder of the process's own group: from the mounts (proc(5), mountinfo) and its line of /proc/self/cgroup.
fn folder(mounts: &str, own: &str) -> Option<PathBuf> {
    let own = own.lines().find_map(|line| line.strip_prefix("0::"))?;
    let (root, mounted) = mounts.lines().find_map(|line| {
        let (before, behind) = line.split_once(" - ")?;
        let mut fields = before.split(' ').skip(3);
        let (root, mounted) = (fields.next()?, fields.next()?);
        behind.starts_with("cgroup2 ").then_some((root, mounted))
    })?;
    let below = if root == "/" { own } else { own.strip_prefix(root)? };
    // A group outside of what is mounted here is written with "..", and a folder with a blank as an escape.
    let plain = !below.contains("..") && !mounted.contains('\\');
    plain.then(|| Path::new(mounted).join(below.trim_start_matches('/')))
}

/// Removes the empty groups of processes that are gone.
fn remove_left(outside: &Path) {
    for entry in fs::read_dir(outside).into_iter().flatten().flatten() {
        let name = entry.file_name();
        let process = name.to_str().and_then(|name| name.strip_prefix(NAME)).and_then(|pid| pid.parse::<u32>().ok());
        if process.is_some_and(|pid| !Path::new("/proc").join(pid.to_string()).exists()) {
            let _ = fs::remove_dir(entry.path());
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_folder_is_found_where_the_groups_are_mounted() {
        let both = "31 24 0:27 / /sys/fs/cgroup/pids rw - cgroup cgroup rw,pids\n\
                    32 24 0:28 / /sys/fs/cgroup/unified rw,relatime - cgroup2 cgroup2 rw\n";
        let of = |mounts, own| folder(mounts, own).map(|path| path.display().to_string());
        assert_eq!(of(both, "3:pids:/x\n0::/\n").as_deref(), Some("/sys/fs/cgroup/unified/"));
        assert_eq!(
            of(both, "0::/user.slice/a.scope\n").as_deref(),
            Some("/sys/fs/cgroup/unified/user.slice/a.scope")
        );
        let below = "32 24 0:28 /pod/one /sys/fs/cgroup rw - cgroup2 none rw\n";
        assert_eq!(of(below, "0::/pod/one/inner\n").as_deref(), Some("/sys/fs/cgroup/inner"));
        for (mounts, own) in [
            (below, "0::/pod/two\n"),
            (both, "0::/../other\n"),
            (both, "3:pids:/\n"),
            ("", "0::/\n"),
            ("x - cgroup2 y", "0::/\n"),
        ] {
            assert_eq!(of(mounts, own), None, "{mounts}{own}");
        }
    }
}
