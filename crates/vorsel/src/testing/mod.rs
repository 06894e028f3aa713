//! For tests: a clock to move, an issuer to throw away, a picture of who may reach what, and the suite that every session
//! store must pass.

mod access;
mod issuer;
pub mod store;

use std::sync::atomic::{AtomicI64, Ordering};
use std::time::Duration;

use vorsel_core::Timestamp;

use crate::clock::Clock;

pub use access::assert_access;
pub use issuer::{TestCaller, TestIssuer};

/// A clock that stands still until the test moves it.
///
/// ```
/// use vorsel::testing::StillClock;
/// use vorsel::{Clock, Timestamp};
///
/// let clock = StillClock::at(Timestamp::from_secs(1_800_000_000));
/// clock.advance(std::time::Duration::from_secs(60));
/// assert_eq!(clock.now().as_secs(), 1_800_000_060);
/// ```
#[derive(Debug)]
pub struct StillClock(AtomicI64);

impl StillClock {
    /// A clock that stands at `start`.
    #[must_use]
    pub const fn at(start: Timestamp) -> Self {
        Self(AtomicI64::new(start.as_micros()))
    }

    /// Moves the clock forward.
    pub fn advance(&self, span: Duration) {
        self.0.store(self.now().after(span).as_micros(), Ordering::SeqCst);
    }
}

impl Clock for StillClock {
    fn now(&self) -> Timestamp {
        Timestamp::from_micros(self.0.load(Ordering::SeqCst))
    }
}
