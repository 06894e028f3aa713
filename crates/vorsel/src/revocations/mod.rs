//! What is revoked, kept current from a feed, so that no request has to ask the store.

mod follow;
mod source;

use std::fmt;
use std::sync::Arc;
use std::sync::atomic::Ordering;
use std::time::Duration;

use tokio::sync::watch;
use tokio::task::JoinHandle;
use tokio::time::timeout;
use vorsel_core::{Checked, ClockOffset, Finding, Revocations, Silences, Timestamp};

use crate::clock::{Clock, StoreClock};
use crate::store::{SessionStore, StoreError};
use crate::waiting::told;
use follow::Shared;
pub(crate) use follow::{lock, note};
use source::OfStore;
#[cfg(feature = "remote")]
pub(crate) use source::{Heard, Listening, Source, Stretch};

/// How far clocks may differ if nothing else is said.
const CLOCK_DIFFERENCE: Duration = Duration::from_secs(30);

/// This instance's view of what is revoked.
///
/// It reads the store's feed from the beginning, and from then on whenever the store says that it has grown, at least
/// once a second; after a lost connection it goes on where it was, so nothing is missed. A service without the store follows the
/// issuer's own feed over HTTP (`RemoteIssuer::feed`). Reading the view takes no lock
/// and no time to speak of. How old it may be is known: see [`silent_for`](Self::silent_for). Cloning is cheap; with the
/// last clone the following stops.
///
/// ```
/// # #[tokio::main]
/// # async fn main() -> Result<(), Box<dyn std::error::Error>> {
/// use std::sync::Arc;
/// use vorsel::LiveRevocations;
/// use vorsel::store::MemoryStore;
///
/// let view = LiveRevocations::follow(Arc::new(MemoryStore::new())).await?;
/// assert!(view.known().is_empty());
/// # Ok(())
/// # }
/// ```
#[derive(Clone)]
pub struct LiveRevocations {
    shared: Arc<Shared>,
    _following: Arc<Following>,
}

/// Where this instance stands with the feed.
///
/// ```
/// # async fn example(view: &vorsel::LiveRevocations) -> Result<(), Box<dyn std::error::Error>> {
/// let figures = view.figures();
/// println!("{} entries, heard of {:?} ago, clocks {} apart", figures.known, figures.silent_for, figures.clock_offset);
/// # Ok(())
/// # }
/// ```
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub struct FeedFigures {
    /// How far behind it may be, as [`LiveRevocations::silent_for`].
    pub silent_for: Duration,
    /// How many entries are remembered.
    pub known: usize,
    /// How often the feed was another one than had been read, and was read from its beginning.
    pub epochs: u64,
    /// How many entries another feed in its place lacks, which are still to be put there again.
    pub lost: usize,
    /// How far this machine's clock is from the store's.
    pub clock_offset: ClockOffset,
}

struct Following(JoinHandle<()>);

impl Drop for Following {
    fn drop(&mut self) {
        self.0.abort();
    }
}

impl LiveRevocations {
    /// Reads the feed of `store` and follows it on the current tokio runtime.
    ///
    /// # Errors
    /// If the feed cannot be read to its end.
    ///
    /// # Panics
    /// Outside of a tokio runtime.
    pub async fn follow(store: Arc<dyn SessionStore>) -> Result<Self, StoreError> {
        Self::follow_within(store, CLOCK_DIFFERENCE).await
    }

    /// [`follow`](Self::follow) where the clocks of instances and store may be so far from each other. Sessions and revocations
    /// are reckoned in the store's time, to which the offset is measured again and again; if it is larger than this, an
    /// error in the log says so, since other services check tokens by their own clocks.
    ///
    /// # Errors
    /// If the feed cannot be read to its end.
    ///
    /// # Panics
    /// Outside of a tokio runtime.
    pub async fn follow_within(store: Arc<dyn SessionStore>, clock_difference: Duration) -> Result<Self, StoreError> {
        let clock = StoreClock::default();
        Self::begin(store, Arc::new(clock.clone()), Some(clock), clock_difference).await
    }

    /// [`follow`](Self::follow) by another clock than the machine's, for tests.
    ///
    /// # Errors
    /// If the feed cannot be read to its end.
    ///
    /// # Panics
    /// Outside of a tokio runtime.
    pub async fn follow_by(store: Arc<dyn SessionStore>, clock: Arc<dyn Clock>) -> Result<Self, StoreError> {
        Self::begin(store, clock, None, CLOCK_DIFFERENCE).await
    }

    async fn begin(
        store: Arc<dyn SessionStore>,
        clock: Arc<dyn Clock>,
        measured: Option<StoreClock>,
        clock_difference: Duration,
    ) -> Result<Self, StoreError> {
        let shared = Shared::new(Arc::new(OfStore(store)), clock, measured, clock_difference);
        told("the store's feed", async {
            shared.measure().await?;
            shared.catch_up(None).await
        })
        .await?;
        Ok(Self::following(shared))
    }

    /// Follows what need not be there yet: nothing is known, and that for as long as one can say, until the feed was read.
    #[cfg(feature = "remote")]
    pub(crate) fn of(source: Arc<dyn Source>, clock: Arc<dyn Clock>) -> Self {
        Self::following(Shared::new(source, clock, None, CLOCK_DIFFERENCE))
    }

    fn following(shared: Shared) -> Self {
        let shared = Arc::new(shared);
        let following = tokio::spawn(shared.clone().follow());
        Self { shared, _following: Arc::new(Following(following)) }
    }

    /// Waits until the feed was read to its end once, for so long at most; whether it was. A store's was by the time that one has the
    /// view, an issuer's need not be.
    pub async fn ready_within(&self, longest: Duration) -> bool {
        let mut news = self.news();
        let _ = timeout(longest, news.wait_for(|readings| *readings > 0)).await;
        self.silent_for() < Duration::MAX
    }

    /// Changes when a reading has found something.
    pub(crate) fn news(&self) -> watch::Receiver<u64> {
        self.shared.news.subscribe()
    }

    /// Whether a checked token stands.
    ///
    /// # Errors
    /// The finding `revoked`, with what is.
    pub fn check<C>(&self, token: &Checked<C>, now: Timestamp) -> Result<(), Box<Finding>> {
        self.shared.known.check(token, now)
    }

    /// How long ago the feed was last read to its end: what was revoked before that is known here. About a second at most
    /// as long as the store answers, and about four where an issuer's feed is followed over HTTP; [`Duration::MAX`] if it never was.
    #[must_use]
    pub fn silent_for(&self) -> Duration {
        self.shared.silent_for()
    }

    /// Reads what the feed has now.
    ///
    /// # Errors
    /// If the store fails.
    pub async fn catch_up(&self) -> Result<(), StoreError> {
        self.shared.caught_up().await
    }

    /// How far this machine's clock is from the store's, as far as it is known; the store's is reckoned by. Zero for stores without
    /// a clock of their own.
    #[must_use]
    pub fn clock_offset(&self) -> ClockOffset {
        self.shared.measured.as_ref().map(StoreClock::offset).unwrap_or_default()
    }

    /// Where this instance stands with the feed.
    #[must_use]
    pub fn figures(&self) -> FeedFigures {
        FeedFigures {
            silent_for: self.silent_for(),
            known: self.shared.known.len(),
            epochs: self.shared.epochs.load(Ordering::Relaxed),
            lost: lock(&self.shared.lost).len(),
            clock_offset: self.clock_offset(),
        }
    }

    /// The clock that sessions and revocations are reckoned by.
    pub(crate) fn clock(&self) -> Arc<dyn Clock> {
        self.shared.clock.clone()
    }

    /// When the store answered nothing, as whoever asks it notes it.
    pub(crate) fn silences(&self) -> Arc<std::sync::Mutex<Silences>> {
        self.shared.silences.clone()
    }

    /// What is known.
    #[must_use]
    pub fn known(&self) -> &Revocations {
        &self.shared.known
    }
}

impl fmt::Debug for LiveRevocations {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("LiveRevocations")
            .field("known", &self.shared.known)
            .field("silent_for", &self.silent_for())
            .finish_non_exhaustive()
    }
}
