//! How memory is backed.
#![allow(unsafe_code)]

/// Has large areas of memory that this process has already come in small pages. Elsewhere than on Linux they do.
pub fn come_in_small_pages() {
    #[cfg(target_os = "linux")]
    linux::advise();
}

#[cfg(target_os = "linux")]
mod linux {
    use std::fs;

    pub(super) fn advise() {
        let Ok(areas) = fs::read_to_string("/proc/self/maps") else { return };
        for (start, length) in areas.lines().filter_map(large_and_nameless) {
            // SAFETY: advice on how memory is backed changes nothing that is in it; a range that is gone is refused.
            unsafe { libc::madvise(start as *mut libc::c_void, length, libc::MADV_NOHUGEPAGE) };
        }
    }

    /// Start and length of an area of memory that could hold a huge page and belongs to no file: `START-END rwxp OFFSET DEVICE INODE`.
    fn large_and_nameless(line: &str) -> Option<(usize, usize)> {
        const HUGE: usize = 2 << 20;
        let mut fields = line.split_ascii_whitespace();
        let (start, end) = fields.next()?.split_once('-')?;
        if fields.nth(4).is_some_and(|name| !name.starts_with("[anon")) {
            return None;
        }
        let start = usize::from_str_radix(start, 16).ok()?;
        let length = usize::from_str_radix(end, 16).ok()?.checked_sub(start)?;
        (length >= HUGE).then_some((start, length))
    }

    #[test]
    fn only_large_areas_without_a_file_are_meant() {
        let area = |line: &str| large_and_nameless(line);
        assert_eq!(area("7f0000000000-7f0040000000 rw-p 00000000 00:00 0 "), Some((0x7f00_0000_0000, 1 << 30)));
        assert_eq!(
            area("7f0000000000-7f0040000000 ---p 00000000 00:00 0    [anon:heap]").map(|a| a.1),
            Some(1 << 30)
        );
        assert_eq!(area("7f0000000000-7f0000100000 rw-p 00000000 00:00 0"), None, "too small");
        assert_eq!(area("7f0000000000-7f0040000000 r-xp 00000000 08:01 77  /usr/bin/fonex"), None, "a file");
        assert_eq!(area("7ffc00000000-7ffc40000000 rw-p 00000000 00:00 0 [stack]"), None);
        for broken in ["", "x", "1-", "zz-zz rw-p", "2-1 rw-p 0 0 0"] {
            assert_eq!(area(broken), None, "{broken}");
        }
    }
}
