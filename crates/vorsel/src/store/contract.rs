//! What every session store must do.

use std::error::Error;
use std::fmt;
use std::sync::Arc;
use std::time::Duration;

use async_trait::async_trait;
use vorsel_core::{Advance, Facts, Revocation, Session, Timestamp};

use super::end::{Cap, End, Inserted};

/// Keeps sessions, and the feed of what was revoked. This contract binds whoever writes one; the suite in
/// `testing::store` checks it.
///
/// - **Decides nothing.** What goes on the feed for an end, who makes way for a new session, and what follows from a lost
///   race is said by [`End`], [`Cap`] and the renewal in the core; a store carries it out.
/// - **Atomic.** Each method happens as a whole or not at all, whoever else calls at the same time, in this process or
///   another. [`advance`](Self::advance) is the compare-and-swap that rotation stands on: of several callers that
///   advance the same generation, exactly one gets [`Advanced::Made`].
/// - **Durable.** What a method said is done survives a crash of the process, in every store but the one in memory.
/// - **Exact.** A session loads as it was stored: times to the microsecond, the secret to the byte.
/// - **Final.** An ended session stays ended, with the reason and the time it was first given, and is not advanced.
/// - **Told.** Whatever ends a session puts it on the feed, in the same step.
/// - **In order.** A reader of the feed that goes on from its cursor misses nothing: what was there when a page was read
///   is on that page or before it.
///
/// Stores may differ in how long they wait before they give up, in how soon a [watch](Self::watch) returns, in how many spent
/// generations they keep beyond [`MOST_SPENT`](Session::MOST_SPENT), and in what a fail-over may lose; each says so.
///
/// The facts of a session hold a secret; a store keeps them as [`Facts::to_bytes`](vorsel_core::Facts::to_bytes) writes them,
/// with columns of its own only for what it searches for. A copy of the store is useless without the signing key.
///
/// ```
/// # #[tokio::main]
/// # async fn main() -> Result<(), Box<dyn std::error::Error>> {
/// use std::sync::Arc;
/// use vorsel::store::{MemoryStore, SessionStore};
///
/// let store: Arc<dyn SessionStore> = Arc::new(MemoryStore::new());
/// assert!(store.load("s1").await?.is_none());
/// vorsel::testing::store::every_rule(store).await; // what a store of your own has to pass
/// # Ok(())
/// # }
/// ```
#[diagnostic::on_unimplemented(
    message = "`{Self}` is no store for sessions",
    note = "vorsel::store has MemoryStore, SqliteStore, PostgresStore and RedisStore",
    note = "a store of your own implements SessionStore and passes vorsel::testing::store::every_rule"
)]
#[async_trait]
pub trait SessionStore: fmt::Debug + Send + Sync {
    /// Keeps a new session, if its subject may have one more; those that make way for it are ended in the same step.
    ///
    /// # Errors
    /// If a session of that id is there already, which random ids rule out, or the store fails.
    async fn insert(&self, session: &Session, cap: Option<Cap>) -> Result<Inserted, StoreError>;

    /// The session of this id, ended ones too.
    ///
    /// # Errors
    /// If the store fails.
    async fn load(&self, id: &str) -> Result<Option<Session>, StoreError>;

    /// Moves the session on to another generation, unless it has reached that one already or has ended. Whoever calls this has
    /// seen the generation before in this store, or a token of it where a fail-over has lost it; so a gap is made only by what was
    /// lost. The spent generations are those that are known, the one before in front.
    ///
    /// # Errors
    /// If the store fails. Then it is open whether the swap was made; the caller presents the token again.
    async fn advance(&self, id: &str, change: Advance<'_>) -> Result<Advanced, StoreError>;

    /// Puts these facts in the place of those of a session that has not ended, which differ in how and when the caller authenticated alone;
    /// whether it is there. Of two at once either may stay.
    ///
    /// # Errors
    /// If the store fails. Then it is open whether they are kept.
    async fn authenticated(&self, id: &str, facts: &Facts) -> Result<bool, StoreError>;

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

    /// Ends the sessions that are meant and have not ended, and puts on the feed what the end says; how many those were. For
    /// all of a time it keeps the end's [mark](End::mark) instead, at the same price however many they are, and can't say how
    /// many. What a mark covers has ended wherever it is looked at: it is loaded and listed so, is not advanced, does not count
    /// among a subject's, and is not ended again.
    ///
    /// # Errors
    /// If the store fails.
    async fn end(&self, end: End<'_>) -> Result<Option<u64>, StoreError>;

    /// Puts an entry on the feed.
    ///
    /// # Errors
    /// If the store fails.
    async fn revoke(&self, revocation: &Revocation) -> Result<(), StoreError>;

    /// The next entries of the feed after a cursor, or from its beginning, at most `limit` of them. Where the entry that the cursor
    /// stands behind is not there any more, another feed may be in the place of the one that was read: after a fail-over that
    /// has lost the last moments, a restored copy, an emptied server. Then the page is from the beginning and
    /// [says so](FeedPage::is_anew). A purge of that entry looks the same, and does no harm.
    ///
    /// # Errors
    /// If the store fails, or the cursor is not one of this store's.
    async fn feed(&self, after: Option<&Cursor>, limit: u32) -> Result<FeedPage, StoreError>;

    /// Something that says when the feed may have grown.
    ///
    /// # Errors
    /// If the store cannot be reached.
    async fn watch(&self) -> Result<Box<dyn FeedWatch>, StoreError>;

    /// The moment now by the store's own clock, for stores that have one: instances on different machines reckon by it. It is
    /// told without waiting for others.
    ///
    /// # Errors
    /// If the store fails.
    async fn time(&self) -> Result<Option<Timestamp>, StoreError> {
        Ok(None)
    }

    /// What an operator watches. Where the store has to go through its sessions for it, it says so.
    ///
    /// # Errors
    /// If the store fails.
    async fn figures(&self, now: Timestamp) -> Result<StoreFigures, StoreError>;

    /// What is kept under a name beside the sessions, a sealed keyring for instance.
    ///
    /// # Errors
    /// If the store fails.
    async fn kept(&self, name: &str) -> Result<Option<Kept>, StoreError>;

    /// Keeps these bytes under a name as the version after `after`, if that is the one that is there; nothing is version 0.
    /// Whether it was. Of several callers that name the same version, exactly one succeeds.
    ///
    /// # Errors
    /// If the store fails. Then it is open whether they are kept.
    async fn keep(&self, name: &str, after: u64, bytes: &[u8]) -> Result<bool, StoreError>;

    /// Takes an id, which nobody can take again until that moment or a little later: of several callers exactly one gets it. For
    /// what is good once, such as the `jti` of a client's assertion. What a fail-over loses can be taken once more.
    ///
    /// # Errors
    /// If the store fails. Then it is open whether the id is taken; nobody is to go by it.
    async fn take(&self, id: &str, until: Timestamp) -> Result<bool, StoreError>;

    /// Forgets sessions that could not be renewed any more at `before`, at most `limit` of them, so that a large
    /// clean-up goes in small steps; says what it forgot. An ended session is kept until its time is over. Entries
    /// of the feed that need not be remembered at `before` any more are forgotten too, at most `limit` of them, and so are ids that
    /// were [taken](Self::take) until then.
    ///
    /// # Errors
    /// If the store fails.
    async fn purge(&self, before: Timestamp, limit: u32) -> Result<Purged, StoreError>;
}

/// What a purge forgot.
///
/// ```
/// # #[tokio::main]
/// # async fn main() -> Result<(), Box<dyn std::error::Error>> {
/// # use vorsel::store::{MemoryStore, Purged, SessionStore};
/// let purged = MemoryStore::new().purge(vorsel::now(), 500).await?;
/// assert_eq!(purged, Purged::default(), "nothing was there");
/// # Ok(())
/// # }
/// ```
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
#[must_use]
pub struct Purged {
    /// How many sessions.
    pub sessions: u64,
    /// How many entries of the feed.
    pub entries: u64,
    /// How many ids that were taken until then; none where the store forgets them by itself.
    pub taken: u64,
    /// How many sessions that came due were found to have been renewed, and are due later. Nothing of them is forgotten; it
    /// says that there may be more to look at.
    pub put_off: u64,
}

/// What is kept under a name beside the sessions.
///
/// ```
/// # #[tokio::main]
/// # async fn main() -> Result<(), Box<dyn std::error::Error>> {
/// # use vorsel::store::{Kept, MemoryStore, SessionStore};
/// let store = MemoryStore::new();
/// assert!(store.keep("access-keys", 0, b"sealed").await?);
/// assert_eq!(store.kept("access-keys").await?, Some(Kept { version: 1, bytes: b"sealed".to_vec() }));
/// assert!(!store.keep("access-keys", 0, b"of somebody else").await?, "there is a version 1 by now");
/// # Ok(())
/// # }
/// ```
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Kept {
    /// How often it was kept.
    pub version: u64,
    /// The bytes.
    pub bytes: Vec<u8>,
}

/// What an operator watches of a store.
///
/// ```
/// # #[tokio::main]
/// # async fn main() -> Result<(), Box<dyn std::error::Error>> {
/// # use vorsel::store::{MemoryStore, SessionStore};
/// let figures = MemoryStore::new().figures(vorsel::now()).await?;
/// assert_eq!((figures.alive, figures.feed), (0, 0));
/// # Ok(())
/// # }
/// ```
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
#[non_exhaustive]
pub struct StoreFigures {
    /// How many sessions can be renewed.
    pub alive: u64,
    /// How many entries the feed has.
    pub feed: u64,
    /// How often this instance had to wait for a connection since it connected, because all were in use or, with one for all, since
    /// it had to be made anew.
    pub waits: u64,
    /// For how long in all.
    pub waited: Duration,
}

impl StoreFigures {
    /// So many sessions, and so many entries on the feed.
    #[must_use]
    pub fn new(alive: u64, feed: u64) -> Self {
        Self { alive, feed, ..Self::default() }
    }

    /// With what was waited for connections.
    #[must_use]
    pub fn waiting(self, waits: u64, waited: Duration) -> Self {
        Self { waits, waited, ..self }
    }
}

/// What became of an advance.
///
/// ```
/// # async fn example(store: &dyn vorsel::store::SessionStore, next: &vorsel::Session) -> Result<(), Box<dyn std::error::Error>> {
/// use vorsel::store::Advanced;
///
/// match store.advance(&next.id, next.advance()).await? {
///     Advanced::Made => println!("in generation {}", next.current.number),
///     Advanced::Lost => println!("somebody else was faster, or it has ended: read again"),
/// }
/// # Ok(())
/// # }
/// ```
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[must_use]
pub enum Advanced {
    /// The session is in the new generation.
    Made,
    /// It was there already, has ended, or is not there. Nothing changed.
    Lost,
}

/// Waits for the feed to grow.
///
/// ```
/// use async_trait::async_trait;
/// use vorsel::store::{Cursor, FeedWatch, StoreError};
///
/// /// For a store that tells nobody: its feed is looked at once a second.
/// struct EverySecond;
///
/// #[async_trait]
/// impl FeedWatch for EverySecond {
///     async fn grown(&mut self, _: Option<&Cursor>) -> Result<(), StoreError> {
///         tokio::time::sleep(std::time::Duration::from_secs(1)).await;
///         Ok(())
///     }
/// }
/// ```
#[diagnostic::on_unimplemented(
    message = "`{Self}` does not watch a feed",
    note = "implement FeedWatch for it: grown() returns when the feed may have grown"
)]
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
///
/// ```
/// use vorsel::store::Cursor;
///
/// let behind_the_seventh = Cursor::new("7");
/// assert_eq!(behind_the_seventh.as_str(), "7");
/// ```
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
///
/// ```
/// # async fn example(store: &dyn vorsel::store::SessionStore) -> Result<(), Box<dyn std::error::Error>> {
/// let mut after = None;
/// loop {
///     let page = store.feed(after.as_ref(), 1_000).await?;
///     if page.entries.is_empty() {
///         break;
///     }
///     after = page.cursor;
/// }
/// # Ok(())
/// # }
/// ```
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct FeedPage {
    /// The entries, in order.
    pub entries: Vec<Revocation>,
    /// Where to go on; none if there was nothing yet.
    pub cursor: Option<Cursor>,
    /// Whether this is the beginning, although a cursor was given.
    pub is_anew: bool,
}

/// The store could not do what it was asked. Nothing was half done.
///
/// ```
/// use vorsel::store::StoreError;
///
/// let error = StoreError::new("load a session", "the connection was lost").passing();
/// assert!(error.is_retryable());
/// assert_eq!(error.to_string(), "the session store failed to load a session");
/// ```
#[derive(Clone, thiserror::Error)]
#[error("{who} failed to {action}")]
pub struct StoreError {
    who: &'static str,
    action: &'static str,
    source: Arc<dyn Error + Send + Sync>,
    retryable: bool,
}

vorsel_core::readable_debug!(StoreError);

impl StoreError {
    /// The store failed to `action`, "load a session" for instance, because of `source`.
    pub fn new(action: &'static str, source: impl Into<Box<dyn Error + Send + Sync>>) -> Self {
        Self { who: "the session store", action, source: source.into().into(), retryable: false }
    }

    /// The same of an issuer whose feed is followed.
    #[cfg(feature = "remote")]
    pub(crate) fn of_issuer(self) -> Self {
        Self { who: "the issuer", ..self }
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
