//! Following a feed: read to its end again and again, and what it has lost put there again.

use std::collections::HashMap;
use std::convert::Infallible;
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Arc, MutexGuard, PoisonError};
use std::time::{Duration, Instant};

use tokio::sync::{Mutex, watch};
use tokio::time::sleep;
use vorsel_core::{ClockOffset, Revocation, Revocations, Revoked, Silences, Timestamp};

use super::source::{Heard, Source, Stretch};
use crate::clock::{Clock, StoreClock, now};
use crate::meters;
use crate::store::{Cursor, StoreError};

pub(super) struct Shared {
    source: Arc<dyn Source>,
    pub(super) clock: Arc<dyn Clock>,
    /// How the store's clock differs from the machine's; none where another clock was given.
    pub(super) measured: Option<StoreClock>,
    /// A larger difference is told.
    clock_difference: Duration,
    pub(super) known: Revocations,
    cursor: Mutex<Option<Cursor>>,
    /// How many readings have begun.
    begun: AtomicU64,
    /// The last of them that came to the end.
    read_to_the_end: AtomicU64,
    /// The last of them that failed, and why.
    failed: std::sync::Mutex<Option<(u64, StoreError)>>,
    /// When the store answered nothing.
    pub(super) silences: Arc<std::sync::Mutex<Silences>>,
    since: Instant,
    /// When the feed was last read to its end, in milliseconds after `since`, and one more; 0 if it never was.
    heard_at: AtomicU64,
    /// How many readings have found something; the first one has, whatever it found.
    pub(super) news: watch::Sender<u64>,
    /// How often the feed was another one.
    pub(super) epochs: AtomicU64,
    /// What is known here and another feed in the place of the one that was read does not have.
    pub(super) lost: std::sync::Mutex<Lost>,
}

/// What a feed has lost.
#[derive(Debug, Default)]
pub(super) struct Lost {
    /// Until when each has to be remembered.
    until: HashMap<Revoked, Timestamp>,
    /// What is put there next, the last one first. In no order, so that of several instances each begins with others.
    next: Vec<Revoked>,
}

impl Lost {
    fn of(entries: Vec<Revocation>) -> Self {
        let until: HashMap<_, _> = entries.into_iter().map(|entry| (entry.what, entry.until)).collect();
        Self { next: until.keys().cloned().collect(), until }
    }

    pub(super) fn len(&self) -> usize {
        self.until.len()
    }

    fn next(&mut self) -> Option<Revocation> {
        loop {
            let what = self.next.last()?;
            if let Some(until) = self.until.get(what) {
                return Some(Revocation { what: what.clone(), until: *until });
            }
            self.next.pop();
        }
    }

    /// Whoever has put it there.
    fn found(&mut self, entry: &Revocation) {
        if self.until.get(&entry.what).is_some_and(|until| *until <= entry.until) {
            self.until.remove(&entry.what);
        }
    }
}

/// Where the next reading goes on, held by whoever reads.
type Place<'s> = tokio::sync::MutexGuard<'s, Option<Cursor>>;

const SHORTEST_PAUSE: Duration = Duration::from_millis(50);
const LONGEST_PAUSE: Duration = Duration::from_secs(1);
/// Where asking again is not likely to help.
const LONGEST_PAUSE_IF_REFUSED: Duration = Duration::from_secs(15);
/// The clock is held against the store's this often.
const MEASURE_EVERY: Duration = Duration::from_secs(1);
const FORGET_EVERY: Duration = Duration::from_secs(30);
/// For so long entries are put on the feed again at a time; in between it is read.
const AGAIN_FOR: Duration = Duration::from_millis(500);
/// After so many the feed is read for what other instances have put there.
const AGAIN_AT_ONCE: u32 = 16;

impl Shared {
    pub(super) fn new(
        source: Arc<dyn Source>,
        clock: Arc<dyn Clock>,
        measured: Option<StoreClock>,
        clock_difference: Duration,
    ) -> Self {
        Self {
            source,
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
            news: watch::Sender::new(0),
            epochs: AtomicU64::new(0),
            lost: std::sync::Mutex::default(),
        }
    }

    /// Asks the store for its time.
    pub(super) async fn measure(&self) -> Result<(), StoreError> {
        let Some(clock) = &self.measured else { return Ok(()) };
        let (asked_at, before) = (now(), clock.offset());
        let Some(told) = self.source.time().await? else { return Ok(()) };
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
    pub(super) async fn caught_up(&self) -> Result<(), StoreError> {
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
        self.read_on(cursor, None).await.map(drop)
    }

    /// Reads on, from what was heard if it goes on where this stands. How many entries there were.
    pub(super) async fn catch_up(&self, heard: Option<Stretch>) -> Result<usize, StoreError> {
        self.read_on(self.cursor.lock().await, heard).await
    }

    async fn read_on(&self, mut cursor: Place<'_>, heard: Option<Stretch>) -> Result<usize, StoreError> {
        let number = self.begun.fetch_add(1, Ordering::AcqRel) + 1;
        let read = self.read_to_the_end_by(&mut cursor, heard, number).await;
        if let Err(error) = &read {
            *lock(&self.failed) = Some((number, error.clone()));
        }
        read
    }

    async fn read_to_the_end_by(
        &self,
        cursor: &mut Option<Cursor>,
        heard: Option<Stretch>,
        number: u64,
    ) -> Result<usize, StoreError> {
        let mut count = 0;
        // What the feed has that is read from its beginning again.
        let mut anew = None::<Revocations>;
        let heard = heard.filter(|heard| heard.after == *cursor);
        // What was heard was asked for before this reading began.
        let mut is_of_this_reading = heard.is_none();
        let mut stretch = match heard {
            Some(heard) => heard,
            None => self.stretch(cursor.as_ref()).await?,
        };
        loop {
            let now = self.clock.now();
            let Stretch { page, is_last, asked_at, .. } = &stretch;
            if page.is_anew {
                anew = Some(Revocations::new());
            }
            let remember = async {
                if let Some(anew) = &anew {
                    page.entries.iter().for_each(|entry| anew.add(entry));
                }
                page.entries.iter().filter(|entry| now < entry.until).for_each(|entry| self.known.add(entry));
            };
            // Of a long feed what comes next is on its way while this is remembered.
            let next = async { if *is_last { None } else { Some(self.stretch(page.cursor.as_ref()).await) } };
            let (next, ()) = tokio::join!(next, remember);
            if anew.is_none() {
                cursor.clone_from(&page.cursor);
                let mut lost = lock(&self.lost);
                if lost.len() > 0 {
                    page.entries.iter().for_each(|entry| lost.found(entry));
                }
            }
            count += page.entries.len();
            if let Some(next) = next {
                (stretch, is_of_this_reading) = (next?, true);
                continue;
            }
            let is_first = self.heard_by(*asked_at) == 0;
            if is_of_this_reading {
                self.read_to_the_end.fetch_max(number, Ordering::AcqRel);
            }
            meters::feed_read(self.source.name(), crate::clock::now(), self.known.len());
            if is_first || count > 0 || anew.is_some() {
                self.news.send_modify(|readings| *readings += 1);
            }
            // Not before the end: what is broken off on the way begins anew again.
            if let Some(anew) = anew {
                cursor.clone_from(&page.cursor);
                self.epochs.fetch_add(1, Ordering::Relaxed);
                self.noted_as_lost(self.known.lacking_in(&anew, now));
            }
            return Ok(count);
        }
    }

    fn noted_as_lost(&self, lost: Vec<Revocation>) {
        let (count, is_ours) = (lost.len(), self.source.is_ours());
        if count == 0 {
            return;
        }
        let then = if is_ours { "are put there again" } else { "count here until their time is over" };
        tracing::error!(
            target: "vorsel::revocations",
            "the feed is another one than was read before, as after a fail-over or a restored copy: {count} of the entries known \
             here are not on it, and {then}"
        );
        if is_ours {
            *lock(&self.lost) = Lost::of(lost);
        }
    }

    /// What comes after a cursor.
    async fn stretch(&self, after: Option<&Cursor>) -> Result<Stretch, StoreError> {
        let asked = self.clock.now();
        let stretch = self.source.stretch(after).await;
        note(&self.silences, &stretch, asked, self.clock.now());
        stretch
    }

    /// Notes that what was there at this moment is known; what was noted before.
    fn heard_by(&self, moment: Instant) -> u64 {
        let millis = moment.saturating_duration_since(self.since).as_millis();
        self.heard_at.fetch_max(u64::try_from(millis).unwrap_or(u64::MAX).saturating_add(1), Ordering::Relaxed)
    }

    pub(super) fn silent_for(&self) -> Duration {
        match self.heard_at.load(Ordering::Relaxed).checked_sub(1) {
            Some(heard_at) => self.since.elapsed().saturating_sub(Duration::from_millis(heard_at)),
            None => Duration::MAX,
        }
    }

    pub(super) async fn follow(self: Arc<Self>) {
        let mut pause = SHORTEST_PAUSE;
        loop {
            let Err(error) = self.listen(&mut pause).await;
            warn(&error);
            sleep(pause).await;
            let longest = if error.is_retryable() { LONGEST_PAUSE } else { LONGEST_PAUSE_IF_REFUSED };
            pause = (pause * 2).min(longest);
        }
    }

    async fn listen(&self, pause: &mut Duration) -> Result<Infallible, StoreError> {
        let mut listening = self.source.listen().await?;
        let (mut forgot_at, mut measured_at) = (Instant::now(), Instant::now());
        // After the listening began, so that nothing falls between.
        let mut heard = Heard::Growth;
        loop {
            match heard {
                Heard::Growth => self.caught_up().await?,
                #[cfg(feature = "remote")]
                Heard::Stretch(stretch) => self.catch_up(Some(stretch)).await.map(drop)?,
                Heard::Nothing if self.catch_up(None).await? > 0 => {
                    // Its connection may have fallen silent without an end.
                    tracing::info!(target: "vorsel::revocations", "the feed has grown and nothing said so; watching it anew");
                    listening = self.source.listen().await?;
                    heard = Heard::Growth;
                    continue;
                }
                Heard::Nothing => {}
            }
            *pause = SHORTEST_PAUSE;
            self.tell_again().await?;
            if measured_at.elapsed() >= MEASURE_EVERY {
                self.measure().await?;
                measured_at = Instant::now();
            }
            if forgot_at.elapsed() > FORGET_EVERY {
                self.known.forget(self.clock.now());
                forgot_at = Instant::now();
            }
            let cursor = self.cursor.lock().await.clone();
            heard = listening.heard(cursor.as_ref()).await?;
        }
    }

    async fn tell_again(&self) -> Result<(), StoreError> {
        let (since, mut at_once) = (Instant::now(), 1);
        while since.elapsed() < AGAIN_FOR {
            for _ in 0..at_once {
                // It is taken off only when it is done. If the list is another one by then, it is told once more.
                let next = lock(&self.lost).next();
                let Some(entry) = next.filter(|_| since.elapsed() < AGAIN_FOR) else { return Ok(()) };
                self.source.tell_again(&entry, self.clock.now()).await?;
                lock(&self.lost).found(&entry);
            }
            at_once = (at_once * 2).min(AGAIN_AT_ONCE);
            self.catch_up(None).await?;
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
