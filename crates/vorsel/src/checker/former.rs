//! Tokens of yesterday: made by what the app had before, and taken for a while.

use std::fmt;
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};

use serde::de::DeserializeOwned;
use vorsel_core::{Checked, Proven, Timestamp};

use super::one::{Checker, IntoChecker};
use crate::meters;

/// Tokens that something else has made for our own people, with a secret or a key that the app has: accepted beside ours until a moment, so
/// that nobody has to sign in again on the day of the move. Each use is counted ([`uses`](Self::uses), and `vorsel_former_tokens_total`
/// with the feature `metrics`): when there are none any more, it can go. Clones share the count.
///
/// ```
/// use vorsel::{AccessPlan, Algorithm, Expectations, FormerTokens, Guard, NoOwn, Secret, SigningKey, Timestamp, Verifier};
///
/// # fn set_up(verifier: Verifier, plan: AccessPlan, secret: Vec<u8>) -> Result<(), Box<dyn std::error::Error>> {
/// let key = SigningKey::hmac(Algorithm::Hs256, Secret::new(secret))?; // one that is shorter than its hash is refused
/// let expectations = Expectations::access_in_any_jwt("https://old.skarnhill.test", "https://api.skarnhill.test");
/// let former = FormerTokens::new(Verifier::new([key.verifying_key()].into_iter().collect(), expectations), Timestamp::from_secs(1_830_297_600));
/// let guard: Guard<NoOwn> = Guard::builder(verifier, plan).former(former.clone()).build()?;
/// println!("{} requests still came with a token of the old kind", former.uses());
/// # drop(guard);
/// # Ok(())
/// # }
/// ```
pub struct FormerTokens<C> {
    checker: Checker<C>,
    until: Timestamp,
    uses: Arc<Uses>,
}

struct Uses {
    count: AtomicU64,
    codes: meters::Codes,
}

impl<C> FormerTokens<C> {
    /// Tokens that pass this checker, until this moment.
    pub fn new(checker: impl IntoChecker<C>, until: Timestamp) -> Self {
        let codes = meters::Codes::new("vorsel_former_tokens_total", "outcome");
        Self { checker: checker.into_checker(), until, uses: Arc::new(Uses { count: AtomicU64::new(0), codes }) }
    }

    /// How many requests came with one.
    #[must_use]
    pub fn uses(&self) -> u64 {
        self.uses.count.load(Ordering::Relaxed)
    }

    /// Until when they are taken.
    #[must_use]
    pub const fn until(&self) -> Timestamp {
        self.until
    }

    pub(super) fn check(&self, token: &[u8], proven: Proven<'_>, now: Timestamp) -> Option<Arc<Checked<C>>>
    where
        C: DeserializeOwned,
    {
        if now >= self.until {
            return None;
        }
        let checked = self.checker.check_proven(token, proven, now).ok()?;
        self.uses.count.fetch_add(1, Ordering::Relaxed);
        self.uses.codes.count("accepted");
        Some(checked)
    }
}

impl<C> Clone for FormerTokens<C> {
    fn clone(&self) -> Self {
        Self { checker: self.checker.clone(), until: self.until, uses: self.uses.clone() }
    }
}

impl<C> fmt::Debug for FormerTokens<C> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("FormerTokens")
            .field("checker", &self.checker)
            .field("until", &self.until)
            .finish_non_exhaustive()
    }
}
