//! The allocator: scoring makes and drops many small texts on all cores at once.
#![allow(unsafe_code)]

#[global_allocator]
static ALLOCATOR: mimalloc::MiMalloc = mimalloc::MiMalloc;

/// The places of its options in mimalloc's own list, which its Rust names leave out.
const PURGE_DELAY: libmimalloc_sys::mi_option_t = 15;
const ALLOW_HUGE_PAGES: libmimalloc_sys::mi_option_t = 43;

/// Has the allocator keep what was freed instead of giving it back to the system after a moment: work in rounds takes the
/// same memory again and again, and every page given back costs a fault.
pub fn keep_what_was_freed() {
    // SAFETY: a number is stored under a lock of the allocator's own; it may be set at any time.
    unsafe { libmimalloc_sys::mi_option_set(PURGE_DELAY, -1) }
}

/// Has memory come in small pages: each thread begins an area of its own, and with a huge page in each a thousand trials
/// at once took 2.7 GB, and a second to clear them. The setting is for this process only; programs that it starts have their own.
pub fn come_in_small_pages() {
    // SAFETY: as above. It holds for areas still to come.
    unsafe { libmimalloc_sys::mi_option_set(ALLOW_HUGE_PAGES, 0) }
    // The first area was there before this program's first line.
    fonex_system::come_in_small_pages();
}

#[cfg(test)]
mod tests {
    use std::fs;

    use super::*;

    #[test]
    #[cfg(target_os = "linux")]
    fn the_allocator_knows_both_options_by_these_places() {
        keep_what_was_freed();
        come_in_small_pages();
        // SAFETY: numbers are read.
        let set = unsafe {
            [libmimalloc_sys::mi_option_get(PURGE_DELAY), libmimalloc_sys::mi_option_get(ALLOW_HUGE_PAGES)]
        };
        assert_eq!(set, [-1, 0]);
        // What the kernel says of the area that this lies in: no huge page (nh), where it has huge pages at all.
        if !std::path::Path::new("/sys/kernel/mm/transparent_hugepage/enabled").exists() {
            return;
        }
        let own = Box::new(1_u8);
        let at = &raw const *own as usize;
        let smaps = fs::read_to_string("/proc/self/smaps").unwrap();
        let mut here = false;
        let flags = smaps.lines().find_map(|line| {
            if let Some((start, end)) = line.split(' ').next().and_then(|range| range.split_once('-')) {
                let bound = |text| usize::from_str_radix(text, 16).unwrap_or(0);
                here = (bound(start)..bound(end)).contains(&at);
            }
            line.strip_prefix("VmFlags:").filter(|_| here)
        });
        assert!(flags.is_some_and(|flags| flags.contains(" nh")), "{flags:?}");
    }
}
