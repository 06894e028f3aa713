//! How often a connection had to be waited for, and for how long.

use std::sync::atomic::{AtomicU64, Ordering};
use std::time::{Duration, Instant};

/// Counts who waits.
#[derive(Debug, Default)]
pub(super) struct Waits {
    count: AtomicU64,
    micros: AtomicU64,
}

/// Somebody who waits until this is dropped, and counts also if they give up.
pub(super) struct Waiting<'w> {
    waits: &'w Waits,
    since: Instant,
}

impl Waits {
    pub(super) fn begin(&self) -> Waiting<'_> {
        Waiting { waits: self, since: Instant::now() }
    }

    /// How often, and for how long in all.
    pub(super) fn so_far(&self) -> (u64, Duration) {
        (self.count.load(Ordering::Relaxed), Duration::from_micros(self.micros.load(Ordering::Relaxed)))
    }
}

impl Drop for Waiting<'_> {
    fn drop(&mut self) {
        self.waits.count.fetch_add(1, Ordering::Relaxed);
        self.waits.micros.fetch_add(self.since.elapsed().as_micros() as u64, Ordering::Relaxed);
    }
}
