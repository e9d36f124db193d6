//! A guard that acts when it is dropped, so that what waits for the end of some work is told of it after a panic too.

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
