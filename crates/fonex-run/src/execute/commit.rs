//! Which commit the folder of a bench file is checked out at, read from the repository's own files (gitrepository-layout).

use std::fs;
use std::path::{Path, PathBuf};

/// The object name of the commit that is checked out in the repository around a folder; none where there is none, or where it
/// cannot be read.
pub fn commit_around(folder: &Path) -> Option<String> {
    let folder = fs::canonicalize(if folder.as_os_str().is_empty() { Path::new(".") } else { folder }).ok()?;
    let own = folder.ancestors().find_map(|folder| repository(&folder.join(".git")))?;
    let head = fs::read_to_string(own.join("HEAD")).ok()?;
    let Some(name) = head.trim().strip_prefix("ref: ") else { return object_name(&head) };
    // Branches of a further work tree lie with the first one's.
    let common = fs::read_to_string(own.join("commondir")).map_or_else(|_| own.clone(), |path| own.join(path.trim()));
    if name.split('/').any(|part| part == "..") {
        return None;
    }
    let loose = [&own, &common].into_iter().find_map(|folder| fs::read_to_string(folder.join(name)).ok());
    if let Some(name) = loose {
        return object_name(&name);
    }
    let packed = fs::read_to_string(common.join("packed-refs")).ok()?;
    let line = packed.lines().find(|line| line.split_once(' ').is_some_and(|(_, known)| known == name))?;
    object_name(line.split(' ').next()?)
}

/// The folder of a repository: `.git` itself, or the one that the file `.git` names.
fn repository(git: &Path) -> Option<PathBuf> {
    if git.is_dir() {
        return Some(git.to_owned());
    }
    let named = fs::read_to_string(git).ok()?;
    Some(git.parent()?.join(named.strip_prefix("gitdir:")?.trim()))
}

fn object_name(text: &str) -> Option<String> {
    let text = text.trim();
    let whole = matches!(text.len(), 40 | 64) && text.bytes().all(|byte| byte.is_ascii_hexdigit());
    whole.then(|| text.to_owned())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_commit_is_found_where_it_is_written() {
        let folder = tempfile::tempdir().unwrap();
        let root = folder.path();
        let write = |name: &str, text: &str| {
            fs::create_dir_all(root.join(name).parent().unwrap()).unwrap();
            fs::write(root.join(name), text).unwrap();
        };
        let [one, two, three] = ["1", "2", "3"].map(|digit| digit.repeat(40));
        fs::create_dir_all(root.join("bench/inner")).unwrap();
        write(".git/HEAD", &format!("{one}\n"));
        assert_eq!(commit_around(&root.join("bench/inner")), Some(one), "detached");
        write(".git/HEAD", "ref: refs/heads/main\n");
        assert_eq!(commit_around(root), None, "no commit yet");
        write(".git/packed-refs", &format!("# pack-refs\n{three} refs/heads/maintenance\n{two} refs/heads/main\n"));
        assert_eq!(commit_around(root), Some(two));
        write(".git/refs/heads/main", &format!("{three}\n"));
        assert_eq!(commit_around(root), Some(three.clone()), "newer than what is packed");
        write("tree/.git", "gitdir: ../.git/worktrees/tree\n");
        write(".git/worktrees/tree/HEAD", "ref: refs/heads/main\n");
        write(".git/worktrees/tree/commondir", "../..\n");
        assert_eq!(commit_around(&root.join("tree")), Some(three));
        write(".git/HEAD", "ref: ../../outside\n");
        assert_eq!(commit_around(root), None);
        write(".git/HEAD", "nonsense");
        assert_eq!(commit_around(root), None);
    }
}
