//! What is revoked, kept current from a store's feed, so that no request has to ask the store.

use std::fmt;
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Arc, MutexGuard, PoisonError};
use std::time::{Duration, Instant};

use tokio::sync::Mutex;
use tokio::task::JoinHandle;
use tokio::time::{sleep, timeout};
use vorsel_core::{
    Checked, ClockOffset, EndReason, Ended, Finding, Revocation, Revocations, Revoked, Silences, Timestamp,
};

use crate::clock::{Clock, StoreClock, now};
use crate::meters;
use crate::store::{Cursor, End, FeedPage, SessionStore, StoreError, Which};
use crate::waiting::told;

/// This instance's view of what is revoked.
///
/// It reads the store's feed from the beginning, and from then on whenever the store says that it has grown, at least
/// once a second; after a lost connection it goes on where it was, so nothing is missed. Reading the view takes no lock
/// and no time to speak of. How old it may be is known: see [`silent_for`](Self::silent_for). Cloning is cheap; with the
/// last clone the following stops.
#[derive(Clone)]
pub struct LiveRevocations {
    shared: Arc<Shared>,
    _following: Arc<Following>,
}

struct Shared {
    store: Arc<dyn SessionStore>,
    clock: Arc<dyn Clock>,
    /// How the store's clock differs from the machine's; none where another clock was given.
    measured: Option<StoreClock>,
    /// A larger difference is told.
    clock_difference: Duration,
    known: Revocations,
    cursor: Mutex<Option<Cursor>>,
    /// How many readings have begun.
    begun: AtomicU64,
    /// The last of them that came to the end.
    read_to_the_end: AtomicU64,
    /// The last of them that failed, and why.
    failed: std::sync::Mutex<Option<(u64, StoreError)>>,
    /// When the store answered nothing.
    silences: Arc<std::sync::Mutex<Silences>>,
    since: Instant,
    /// When the feed was last read to its end, in milliseconds after `since`.
    heard_at: AtomicU64,
    /// How often the feed was another one.
    epochs: AtomicU64,
    /// What is known here and another feed in the place of the one that was read does not have.
    lost: std::sync::Mutex<Vec<Revocation>>,
}

/// Where this instance stands with the feed.
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

/// Entries read at once.
const PAGE: u32 = 10_000;
/// The feed is read this often even if the store says nothing: only an answer shows that it could have.
const HEARTBEAT: Duration = Duration::from_secs(1);
const SHORTEST_PAUSE: Duration = Duration::from_millis(50);
const LONGEST_PAUSE: Duration = Duration::from_secs(1);
/// How far clocks may differ if nothing else is said.
const CLOCK_DIFFERENCE: Duration = Duration::from_secs(30);
const FORGET_EVERY: Duration = Duration::from_secs(30);

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
        let shared = Shared {
            store,
            clock,
            measured,
            clock_difference,
            known: Revocations::new(),
            cursor: Mutex::new(None),
            begun: AtomicU64::new(0),
            read_to_the_end: AtomicU64::new(0),
            failed: std::sync::Mutex::default(),
            silences: Arc::default(),
            since: Instant::now(),
            heard_at: AtomicU64::new(0),
            epochs: AtomicU64::new(0),
            lost: std::sync::Mutex::default(),
        };
        told("the store's feed", async {
            shared.measure().await?;
            shared.catch_up().await
        })
        .await?;
        let shared = Arc::new(shared);
        let following = tokio::spawn(shared.clone().follow());
        Ok(Self { shared, _following: Arc::new(Following(following)) })
    }

    /// Whether a checked token stands.
    ///
    /// # Errors
    /// The finding `revoked`, with what is.
    pub fn check<C>(&self, token: &Checked<C>, now: Timestamp) -> Result<(), Box<Finding>> {
        self.shared.known.check(token, now)
    }

    /// How long ago the feed was last read to its end: what was revoked before that is known here. About a second at most
    /// as long as the store answers.
    #[must_use]
    pub fn silent_for(&self) -> Duration {
        let heard_at = Duration::from_millis(self.shared.heard_at.load(Ordering::Relaxed));
        self.shared.since.elapsed().saturating_sub(heard_at)
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

impl Shared {
    /// Asks the store for its time.
    async fn measure(&self) -> Result<(), StoreError> {
        let Some(clock) = &self.measured else { return Ok(()) };
        let (asked_at, before) = (now(), clock.offset());
        let Some(told) = self.store.time().await? else { return Ok(()) };
        let offset = before.measured(asked_at, told, now());
        clock.set(offset);
        let is_outside = |offset: ClockOffset| offset.size() > self.clock_difference;
        if is_outside(offset) && !is_outside(before) {
            tracing::error!(
                target: "vorsel::clock",
                "expected clocks at most {} s apart, but found this machine's {offset} when held against the store's; sessions are \
                 reckoned in the store's time, but whoever checks a token does that by the clock of their own",
                self.clock_difference.as_secs()
            );
        } else if is_outside(before) && !is_outside(offset) {
            tracing::info!(target: "vorsel::clock", "this machine's clock is near the store's again: {offset}");
        }
        Ok(())
    }

    /// Reads what the feed has from now on: a reading that began after this is as good, whatever came of it, so of many who ask at
    /// once one reads, and nobody waits for more than two readings.
    async fn caught_up(&self) -> Result<(), StoreError> {
        let before = self.begun.load(Ordering::Acquire);
        let cursor = self.cursor.lock().await;
        if self.read_to_the_end.load(Ordering::Acquire) > before {
            return Ok(());
        }
        if let Some((number, error)) = &*lock(&self.failed)
            && *number > before
        {
            return Err(error.clone());
        }
        self.read_on(cursor).await.map(drop)
    }

    /// How many entries there were.
    async fn catch_up(&self) -> Result<usize, StoreError> {
        self.read_on(self.cursor.lock().await).await
    }

    async fn read_on(&self, mut cursor: tokio::sync::MutexGuard<'_, Option<Cursor>>) -> Result<usize, StoreError> {
        let number = self.begun.fetch_add(1, Ordering::AcqRel) + 1;
        let read = self.read_to_the_end_by(&mut cursor, number).await;
        if let Err(error) = &read {
            *lock(&self.failed) = Some((number, error.clone()));
        }
        read
    }

    async fn read_to_the_end_by(&self, cursor: &mut Option<Cursor>, number: u64) -> Result<usize, StoreError> {
        let mut count = 0;
        let mut after = cursor.clone();
        // What the feed has that is read from its beginning again.
        let mut anew = None::<Revocations>;
        let (mut asked_at, mut page) = self.page(after.as_ref()).await?;
        loop {
            let now = self.clock.now();
            if page.is_anew {
                anew = Some(Revocations::new());
            }
            let remember = async {
                if let Some(anew) = &anew {
                    page.entries.iter().for_each(|entry| anew.add(entry));
                }
                page.entries.iter().filter(|entry| now < entry.until).for_each(|entry| self.known.add(entry));
            };
            let is_last = page.entries.len() < PAGE as usize;
            // Of a long feed the next page is on its way while this one is remembered.
            let next = async { if is_last { None } else { Some(self.page(page.cursor.as_ref()).await) } };
            let (next, ()) = tokio::join!(next, remember);
            after.clone_from(&page.cursor);
            if anew.is_none() {
                cursor.clone_from(&after);
            }
            count += page.entries.len();
            if let Some(next) = next {
                (asked_at, page) = next?;
            } else {
                self.heard_at.fetch_max(asked_at.as_millis() as u64, Ordering::Relaxed);
                self.read_to_the_end.fetch_max(number, Ordering::AcqRel);
                meters::feed_read(crate::clock::now(), self.known.len());
                // Not before the end: what is broken off on the way begins anew again.
                if let Some(anew) = anew {
                    *cursor = after;
                    self.epochs.fetch_add(1, Ordering::Relaxed);
                    let lost = self.known.lacking_in(&anew, now);
                    if !lost.is_empty() {
                        let count = lost.len();
                        tracing::error!(
                            target: "vorsel::revocations",
                            "the feed is another one than was read before, as after a fail-over or a restored copy: {count} of \
                             the entries known here are not on it, and are put there again"
                        );
                        *lock(&self.lost) = lost;
                    }
                }
                return Ok(count);
            }
        }
    }

    /// The next page, and when it was asked for.
    async fn page(&self, after: Option<&Cursor>) -> Result<(Duration, FeedPage), StoreError> {
        let (asked_at, asked) = (self.since.elapsed(), self.clock.now());
        let page = self.store.feed(after, PAGE).await;
        note(&self.silences, &page, asked, self.clock.now());
        Ok((asked_at, page?))
    }

    async fn follow(self: Arc<Self>) {
        let mut pause = SHORTEST_PAUSE;
        loop {
            let Err(error) = self.listen(&mut pause).await;
            warn(&error);
            sleep(pause).await;
            pause = (pause * 2).min(LONGEST_PAUSE);
        }
    }

    async fn listen(&self, pause: &mut Duration) -> Result<std::convert::Infallible, StoreError> {
        let mut watch = self.store.watch().await?;
        let (mut forgot_at, mut measured_at, mut was_told) = (Instant::now(), Instant::now(), true);
        loop {
            // After the listening began, so that nothing falls between.
            if was_told {
                self.caught_up().await?;
            } else if self.catch_up().await? > 0 {
                // Its connection may have fallen silent without an end.
                tracing::info!(target: "vorsel::revocations", "the feed has grown and nothing said so; watching it anew");
                watch = self.store.watch().await?;
                was_told = true;
                continue;
            }
            *pause = SHORTEST_PAUSE;
            self.tell_again().await?;
            if measured_at.elapsed() >= HEARTBEAT {
                self.measure().await?;
                measured_at = Instant::now();
            }
            if forgot_at.elapsed() > FORGET_EVERY {
                self.known.forget(self.clock.now());
                forgot_at = Instant::now();
            }
            let cursor = self.cursor.lock().await.clone();
            let grown = timeout(HEARTBEAT, watch.grown(cursor.as_ref())).await;
            was_told = grown.is_ok();
            grown.unwrap_or(Ok(()))?;
        }
    }
}

/// For so long entries are put on the feed again at a time; in between it is read.
const AGAIN_FOR: Duration = Duration::from_millis(500);

impl Shared {
    /// Puts on the feed again what it has lost, and ends again what has ended.
    async fn tell_again(&self) -> Result<(), StoreError> {
        let since = Instant::now();
        while since.elapsed() < AGAIN_FOR {
            // It is taken off only when it is done. If the list is another one by then, it is told once more.
            let Some(entry) = lock(&self.lost).last().cloned() else { return Ok(()) };
            let now = self.clock.now();
            let ended = Ended { at: now, why: EndReason::Withdrawn };
            let end = |which| End { which, ended, until: entry.until };
            let is_told = match &entry.what {
                Revoked::Session(id) => self.store.end(end(Which::One(id))).await? == Some(1),
                Revoked::SignIns { up_to } => {
                    let moment = up_to.after(Duration::from_micros(1));
                    self.store.end(end(Which::StartedBefore(moment))).await?.is_none()
                }
                _ => false,
            };
            if !is_told {
                self.store.revoke(&entry).await?;
            }
            let mut lost = lock(&self.lost);
            if lost.last() == Some(&entry) {
                lost.pop();
            }
        }
        Ok(())
    }
}

/// What is noted is noted in one step.
pub(crate) fn lock<T>(noted: &std::sync::Mutex<T>) -> MutexGuard<'_, T> {
    noted.lock().unwrap_or_else(PoisonError::into_inner)
}

/// Notes whether the store has answered. An error that it gave is an answer.
pub(crate) fn note<T>(
    silences: &std::sync::Mutex<Silences>,
    answer: &Result<T, StoreError>,
    asked_at: Timestamp,
    now: Timestamp,
) {
    match answer {
        Err(error) if error.is_retryable() => lock(silences).failed(asked_at),
        _ => lock(silences).heard(now),
    }
}

fn warn(error: &StoreError) {
    let error: &dyn std::error::Error = error;
    tracing::warn!(target: "vorsel::revocations", error, "the feed cannot be read; trying again");
}

impl fmt::Debug for LiveRevocations {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("LiveRevocations")
            .field("known", &self.shared.known)
            .field("silent_for", &self.silent_for())
            .finish_non_exhaustive()
    }
}
