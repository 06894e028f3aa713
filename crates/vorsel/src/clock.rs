//! The clock, the one place where `now` comes from.

use std::fmt;
use std::sync::Arc;
use std::sync::atomic::{AtomicI64, Ordering};
use std::time::{SystemTime, UNIX_EPOCH};

use vorsel_core::{ClockOffset, Timestamp};

/// Tells the time. [`SystemClock`] does in production; tests hand in one that they move.
///
/// ```
/// use vorsel::{Clock, Timestamp};
///
/// #[derive(Debug)]
/// struct Stopped;
///
/// impl Clock for Stopped {
///     fn now(&self) -> Timestamp {
///         Timestamp::from_secs(1_700_000_000)
///     }
/// }
/// ```
#[diagnostic::on_unimplemented(
    message = "`{Self}` is no clock",
    note = "implement Clock for it, or take vorsel::SystemClock; tests take vorsel::testing::StillClock"
)]
pub trait Clock: fmt::Debug + Send + Sync {
    /// The moment now.
    fn now(&self) -> Timestamp;
}

/// The machine's clock.
///
/// ```
/// use vorsel::{Clock, SystemClock, Timestamp};
///
/// assert!(SystemClock.now() > Timestamp::from_secs(1_700_000_000));
/// ```
#[derive(Clone, Copy, Debug, Default)]
pub struct SystemClock;

impl Clock for SystemClock {
    fn now(&self) -> Timestamp {
        now()
    }
}

/// The clock of a store by way of the machine's, so that instances whose clocks differ reckon alike. Clones share the offset.
#[derive(Clone, Debug, Default)]
pub(crate) struct StoreClock(Arc<AtomicI64>);

impl StoreClock {
    pub(crate) fn offset(&self) -> ClockOffset {
        ClockOffset::from_micros(self.0.load(Ordering::Relaxed))
    }

    pub(crate) fn set(&self, offset: ClockOffset) {
        self.0.store(offset.as_micros(), Ordering::Relaxed);
    }
}

impl Clock for StoreClock {
    fn now(&self) -> Timestamp {
        self.offset().there(now())
    }
}

/// The moment now by the machine's clock. A clock set before 1970 counts as 1970, where every token is yet to begin.
#[must_use]
pub fn now() -> Timestamp {
    let since = SystemTime::now().duration_since(UNIX_EPOCH).unwrap_or_default();
    Timestamp::from_micros(i64::try_from(since.as_micros()).unwrap_or(i64::MAX))
}
