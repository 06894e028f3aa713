//! How many failures there may be.

use std::num::NonZeroU32;
use std::time::Duration;

/// So many failures at once, and one more each time that this has gone by.
///
/// ```
/// use std::time::Duration;
/// use vorsel::Budget;
///
/// let budget = Budget::new(10, Duration::from_secs(60)); // ten failures at once, then one a minute
/// ```
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Budget {
    /// How many failures at once.
    pub failures: NonZeroU32,
    /// In which time one of them is forgotten.
    pub one_back_in: Duration,
}

impl Budget {
    /// So many failures at once, one of which is forgotten in that time.
    ///
    /// # Panics
    /// If there are none: then nobody could ever try.
    #[must_use]
    pub const fn new(failures: u32, one_back_in: Duration) -> Self {
        match NonZeroU32::new(failures) {
            Some(failures) => Self { failures, one_back_in },
            None => panic!("a budget without a failure lets nobody try"),
        }
    }
}
