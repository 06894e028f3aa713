//! How an issuer is followed.

use std::time::Duration;

/// Within which an issuer is followed.
///
/// ```
/// use std::time::Duration;
/// use vorsel::RemoteLimits;
///
/// let mut limits = RemoteLimits::default();
/// limits.through_outage = Duration::from_secs(3_600);
/// ```
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub struct RemoteLimits {
    /// How long one fetch may take.
    pub within: Duration,
    /// How large a key set may be, in bytes.
    pub largest: usize,
    /// The least time between two fetches of keys while they succeed, whatever the issuer says of caching.
    pub least_kept: Duration,
    /// The longest that keys are kept without being fetched again. What the set no longer has stops working after this time and that of
    /// one fetch.
    pub longest_kept: Duration,
    /// How long keys are kept that can't be fetched again.
    pub through_outage: Duration,
    /// The least time between a fetch and another one for the sake of a key that is not known.
    pub between_unknown: Duration,
}

impl Default for RemoteLimits {
    /// 5 s, 256 KiB, from 1 minute to 15 minutes, 4 hours through an outage, and 30 s between unknown keys.
    fn default() -> Self {
        Self {
            within: Duration::from_secs(5),
            largest: 256 * 1024,
            least_kept: Duration::from_secs(60),
            longest_kept: Duration::from_secs(15 * 60),
            through_outage: Duration::from_secs(4 * 3_600),
            between_unknown: Duration::from_secs(30),
        }
    }
}
