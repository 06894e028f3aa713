//! What every session store must do.

use std::error::Error;
use std::fmt;
use std::sync::Arc;

use async_trait::async_trait;
use vorsel_core::{Beyond, EndReason, Ended, PerSubject, Revocation, Session, Timestamp};

/// Keeps sessions, and the feed of what was revoked. This contract binds whoever writes one; the suite in
/// `testing::store` checks it.
///
/// - **Atomic.** Each method happens as a whole or not at all, whoever else calls at the same time, in this process or
///   another. [`advance`](Self::advance) is the compare-and-swap that rotation stands on: of several callers that
///   advance the same generation, exactly one gets `true`.
/// - **Durable.** What a method said is done survives a crash of the process, in every store but the one in memory.
/// - **Exact.** A session loads as it was stored: times to the microsecond, the secret to the byte.
/// - **Final.** An ended session stays ended, with the reason and the time it was first given, and is not advanced.
/// - **Told.** Whatever ends a session puts it on the feed, in the same step.
/// - **In order.** A reader of the feed that goes on from its cursor misses nothing: what was there when a page was read
///   is on that page or before it.
///
/// A session holds a secret; a store keeps it as it is, and a copy of the store is useless without the signing key.
#[async_trait]
pub trait SessionStore: fmt::Debug + Send + Sync {
    /// Keeps a new session, if its subject has room for it.
    ///
    /// # Errors
    /// If a session of that id is there already, which random ids rule out, or the store fails.
    async fn insert(&self, session: &Session, room: Option<Room>) -> Result<Inserted, StoreError>;

    /// The session of this id, ended ones too.
    ///
    /// # Errors
    /// If the store fails.
    async fn load(&self, id: &str) -> Result<Option<Session>, StoreError>;

    /// Replaces the session by `next`, unless it has reached `next`'s generation already or has ended. Says whether it did.
    /// Whoever calls this has seen the generation before in this store, so none is left out. Only generation, `renewed_at`,
    /// `idle_until` and the spent generations change, which are the current one and the spent ones of before.
    ///
    /// # Errors
    /// If the store fails. Then it is open whether the swap was made; the caller presents the token again.
    async fn advance(&self, next: &Session) -> Result<bool, StoreError>;

    /// All sessions of a subject that are kept, ended ones too, the oldest first.
    ///
    /// # Errors
    /// If the store fails.
    async fn of_subject(&self, subject: &str) -> Result<Vec<Session>, StoreError>;

    /// Sessions in the order of their ids, those after `after`, at most `limit` of them.
    ///
    /// # Errors
    /// If the store fails.
    async fn page(&self, after: Option<&str>, limit: u32) -> Result<Vec<Session>, StoreError>;

    /// Ends the sessions that `which` names and that have not ended; says how many those were. Their tokens are put on
    /// the feed, to be remembered until `until`: for those that [started before](Which::StartedBefore) a moment as
    /// [one entry](Which::feed_entries) for all that started before the second it lies in.
    ///
    /// # Errors
    /// If the store fails.
    async fn end(&self, which: Which<'_>, ended: Ended, until: Timestamp) -> Result<u64, StoreError>;

    /// Puts an entry on the feed.
    ///
    /// # Errors
    /// If the store fails.
    async fn revoke(&self, revocation: &Revocation) -> Result<(), StoreError>;

    /// The next entries of the feed after a cursor, or from its beginning, at most `limit` of them.
    ///
    /// # Errors
    /// If the store fails, or the cursor is not one of this store's.
    async fn feed(&self, after: Option<&Cursor>, limit: u32) -> Result<FeedPage, StoreError>;

    /// Something that says when the feed may have grown.
    ///
    /// # Errors
    /// If the store cannot be reached.
    async fn watch(&self) -> Result<Box<dyn FeedWatch>, StoreError>;

    /// Forgets sessions that could not be renewed any more at `before`, at most `limit` of them, so that a large
    /// clean-up goes in small steps; says how many it forgot. An ended session is kept until its time is over. Entries
    /// of the feed that need not be remembered at `before` any more are forgotten too, at most `limit` of them.
    ///
    /// # Errors
    /// If the store fails.
    async fn purge(&self, before: Timestamp, limit: u32) -> Result<u64, StoreError>;
}

/// Waits for the feed to grow.
#[async_trait]
pub trait FeedWatch: Send {
    /// Returns when there may be entries after `after`; too often does no harm. It may be dropped at any time and called
    /// again.
    ///
    /// # Errors
    /// If the store cannot be reached any more; then a new one is made.
    async fn grown(&mut self, after: Option<&Cursor>) -> Result<(), StoreError>;
}

/// A place in a feed; only the store that gave it can read it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Cursor(String);

impl Cursor {
    /// A cursor that the store writes like this.
    pub fn new(text: impl Into<String>) -> Self {
        Self(text.into())
    }

    /// As the store wrote it.
    #[must_use]
    pub fn as_str(&self) -> &str {
        &self.0
    }
}

/// Some entries of the feed.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct FeedPage {
    /// The entries, in order.
    pub entries: Vec<Revocation>,
    /// Where to go on; none if there was nothing yet.
    pub cursor: Option<Cursor>,
}

/// How many sessions a subject may have, and when that is asked.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Room {
    /// The limit.
    pub limit: PerSubject,
    /// The moment: sessions that have ended or expired by then do not count.
    pub now: Timestamp,
    /// Until when the tokens of a session that makes way have to be remembered.
    pub until: Timestamp,
}

impl Room {
    /// How many of the oldest of `live` sessions have to make way for one more; none if there is no room.
    #[must_use]
    pub fn to_displace(&self, live: usize) -> Option<usize> {
        let excess = (live + 1).saturating_sub(self.limit.most.get() as usize);
        match self.limit.beyond {
            Beyond::Refuse if excess > 0 => None,
            _ => Some(excess),
        }
    }

    /// How a session that makes way ends.
    #[must_use]
    pub const fn ended(&self) -> Ended {
        Ended { at: self.now, why: EndReason::Displaced }
    }
}

/// What became of a new session.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[must_use]
pub enum Inserted {
    /// It is kept, and so many others made way.
    Kept {
        /// How many.
        displaced: u64,
    },
    /// The subject has as many sessions as it may. Nothing changed.
    Full,
}

/// Which sessions to end.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Which<'a> {
    /// The session of this id.
    One(&'a str),
    /// Every session of this subject.
    OfSubject(&'a str),
    /// Every session that started before this moment.
    StartedBefore(Timestamp),
}

impl Which<'_> {
    /// What is put on the feed: for which of the ended sessions an entry of their own, and up to when one for all.
    ///
    /// Tokens give the time of their sign-in in whole seconds. Those from the seconds before the one that the moment lies
    /// in are named together; a session that began within that second is named itself, since another may have begun in it
    /// after the moment.
    #[must_use]
    pub fn feed_entries(self) -> (Option<Timestamp>, Timestamp) {
        match self {
            Self::One(_) | Self::OfSubject(_) => (None, Timestamp::MIN),
            Self::StartedBefore(moment) => {
                let second = moment.whole_secs();
                (Some(second.before(std::time::Duration::from_micros(1))), second)
            }
        }
    }
}

/// The store could not do what it was asked. Nothing was half done.
#[derive(Clone, Debug, thiserror::Error)]
#[error("the session store failed to {action}")]
pub struct StoreError {
    action: &'static str,
    source: Arc<dyn Error + Send + Sync>,
    retryable: bool,
}

impl StoreError {
    /// The store failed to `action`, "load a session" for instance, because of `source`.
    pub fn new(action: &'static str, source: impl Into<Box<dyn Error + Send + Sync>>) -> Self {
        Self { action, source: source.into().into(), retryable: false }
    }

    /// The same failure, one that may be over when it is asked again: the connection was lost, another server takes over,
    /// somebody else was writing.
    #[must_use]
    pub fn passing(self) -> Self {
        Self { retryable: true, ..self }
    }

    /// Whether asking again may help.
    #[must_use]
    pub const fn is_retryable(&self) -> bool {
        self.retryable
    }
}
