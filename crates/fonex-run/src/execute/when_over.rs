//! A guard that runs a function when dropped, so that waiting threads wake up even after a panic.

/// Calls its function when it is dropped.
pub(crate) struct WhenOver<F: FnMut()>(F);

impl<F: FnMut()> WhenOver<F> {
    /// A guard that calls `act`.
    pub(crate) const fn new(act: F) -> Self {
        Self(act)
    }
}

impl<F: FnMut()> Drop for WhenOver<F> {
    fn drop(&mut self) {
        (self.0)();
    }
}
