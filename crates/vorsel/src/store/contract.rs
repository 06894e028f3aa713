//! What every session store must do.

use std::error::Error;
use std::fmt;

use async_trait::async_trait;
use vorsel_core::{EndReason, Ended, Session, Timestamp};

/// Keeps sessions. This contract binds whoever writes one; the suite in `testing::store` checks it.
///
/// - **Atomic.** Each method happens as a whole or not at all, whoever else calls at the same time, in this process or
///   another. [`advance`](Self::advance) is the compare-and-swap that rotation stands on: of several callers that
///   advance the same generation, exactly one gets `true`.
/// - **Durable.** What a method said is done survives a crash of the process, in every store but the one in memory.
/// - **Exact.** A session loads as it was stored: times to the microsecond, the secret to the byte.
/// - **Final.** An ended session stays ended, with the reason and the time it was first given, and is not advanced.
///
/// A session holds a secret; a store keeps it as it is, and a copy of the store is useless without the signing key.
#[async_trait]
pub trait SessionStore: fmt::Debug + Send + Sync {
    /// Keeps a new session.
    ///
    /// # Errors
    /// If a session of that id is there already, which random ids rule out, or the store fails.
    async fn insert(&self, session: &Session) -> Result<(), StoreError>;

    /// The session of this id, ended ones too.
    ///
    /// # Errors
    /// If the store fails.
    async fn load(&self, id: &str) -> Result<Option<Session>, StoreError>;

    /// Replaces the session by `next`, if it still has the generation before `next`'s and has not ended. Says whether
    /// it did. Only generation, `renewed_at` and `idle_until` change.
    ///
    /// # Errors
    /// If the store fails. Then it is open whether the swap was made; the caller presents the token again.
    async fn advance(&self, next: &Session) -> Result<bool, StoreError>;

    /// All sessions of a subject that are kept, ended ones too, the oldest first.
    ///
    /// # Errors
    /// If the store fails.
    async fn of_subject(&self, subject: &str) -> Result<Vec<Session>, StoreError>;

    /// Ends the sessions that `which` names and that have not ended; says how many those were.
    ///
    /// # Errors
    /// If the store fails.
    async fn end(&self, which: Which<'_>, ended: Ended) -> Result<u64, StoreError>;

    /// Forgets sessions that could not be renewed any more at `before`, at most `limit` of them, so that a large
    /// clean-up goes in small steps; says how many it forgot. An ended session is kept until its time is over.
    ///
    /// # Errors
    /// If the store fails.
    async fn purge(&self, before: Timestamp, limit: u32) -> Result<u64, StoreError>;
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

/// The store could not do what it was asked. Nothing was half done; asking again may help.
#[derive(Debug, thiserror::Error)]
#[error("the session store failed to {action}")]
pub struct StoreError {
    action: &'static str,
    source: Box<dyn Error + Send + Sync>,
}

impl StoreError {
    /// The store failed to `action`, "load a session" for instance, because of `source`.
    pub fn new(action: &'static str, source: impl Into<Box<dyn Error + Send + Sync>>) -> Self {
        Self { action, source: source.into() }
    }
}

/// Ended now, for this reason.
pub(crate) const fn ended(why: EndReason, at: Timestamp) -> Ended {
    Ended { at, why }
}
