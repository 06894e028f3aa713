//! The clock, the one place where `now` comes from.

use std::fmt;
use std::time::{SystemTime, UNIX_EPOCH};

use vorsel_core::Timestamp;

/// Tells the time. [`SystemClock`] does in production; tests hand in one that they move.
#[diagnostic::on_unimplemented(
    message = "`{Self}` is no clock",
    note = "implement Clock for it, or take vorsel::SystemClock; tests take vorsel::testing::StillClock"
)]
pub trait Clock: fmt::Debug + Send + Sync {
    /// The moment now.
    fn now(&self) -> Timestamp;
}

/// The machine's clock.
#[derive(Clone, Copy, Debug, Default)]
pub struct SystemClock;

impl Clock for SystemClock {
    fn now(&self) -> Timestamp {
        now()
    }
}

/// The moment now by the machine's clock. A clock set before 1970 counts as 1970, where every token is yet to begin.
#[must_use]
pub fn now() -> Timestamp {
    let since = SystemTime::now().duration_since(UNIX_EPOCH).unwrap_or_default();
    Timestamp::from_micros(i64::try_from(since.as_micros()).unwrap_or(i64::MAX))
}
