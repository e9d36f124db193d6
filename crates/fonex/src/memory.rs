//! The allocator: scoring makes and drops many small texts on all cores at once.
#![allow(unsafe_code)]

#[global_allocator]
static ALLOCATOR: mimalloc::MiMalloc = mimalloc::MiMalloc;

/// The place of its option in mimalloc's own list, which its Rust names leave out.
const PURGE_DELAY: libmimalloc_sys::mi_option_t = 15;

/// Has the allocator keep what was freed instead of giving it back to the system after a moment: work in rounds takes the
/// same memory again and again, and every page given back costs a fault.
pub fn keep_what_was_freed() {
    // SAFETY: a number is stored under a lock of the allocator's own; it may be set at any time.
    unsafe { libmimalloc_sys::mi_option_set(PURGE_DELAY, -1) }
}
