//! What a view follows: the feed of a store, or that of an issuer.

use std::fmt;
use std::sync::Arc;
use std::time::{Duration, Instant};

use async_trait::async_trait;
use tokio::time::timeout;
use vorsel_core::{EndReason, Ended, Revocation, Revoked, Timestamp};

use crate::store::{Cursor, End, FeedPage, FeedWatch, SessionStore, StoreError, Which};

/// A feed that can be followed.
#[async_trait]
pub(crate) trait Source: fmt::Debug + Send + Sync {
    /// What comes after a cursor, or from the beginning, as it is now.
    async fn stretch(&self, after: Option<&Cursor>) -> Result<Stretch, StoreError>;

    /// Whose feed it is, for figures.
    fn name(&self) -> &str {
        "store"
    }

    /// Something that waits for more.
    async fn listen(&self) -> Result<Box<dyn Listening>, StoreError>;

    /// The moment now by the clock of the feed's own, if there is one to reckon by.
    async fn time(&self) -> Result<Option<Timestamp>, StoreError> {
        Ok(None)
    }

    /// Whether what the feed has lost can be put there again.
    fn is_ours(&self) -> bool {
        false
    }

    /// Puts on the feed again what it has lost, and ends again what has ended.
    async fn tell_again(&self, _entry: &Revocation, _now: Timestamp) -> Result<(), StoreError> {
        Ok(())
    }
}

/// Some entries of a feed.
#[derive(Clone, Debug)]
pub(crate) struct Stretch {
    /// Where it begins, as it was asked for.
    pub(crate) after: Option<Cursor>,
    /// What there is.
    pub(crate) page: FeedPage,
    /// Whether there is no more.
    pub(crate) is_last: bool,
    /// What was there at this moment is there.
    pub(crate) asked_at: Instant,
}

/// Waits for a feed to grow.
#[async_trait]
pub(crate) trait Listening: Send {
    /// Returns with news, or without after a while.
    async fn heard(&mut self, after: Option<&Cursor>) -> Result<Heard, StoreError>;
}

/// What was heard.
#[derive(Debug)]
pub(crate) enum Heard {
    /// Nothing, for as long as one waits.
    Nothing,
    /// There may be more.
    Growth,
    /// This.
    #[cfg(feature = "remote")]
    Stretch(Stretch),
}

/// Entries read at once.
const PAGE: u32 = 10_000;
/// The feed is read this often even if the store says nothing: only an answer shows that it could have.
const HEARTBEAT: Duration = Duration::from_secs(1);

/// The feed of a store.
#[derive(Debug)]
pub(super) struct OfStore(pub(super) Arc<dyn SessionStore>);

struct Watching(Box<dyn FeedWatch>);

#[async_trait]
impl Source for OfStore {
    async fn stretch(&self, after: Option<&Cursor>) -> Result<Stretch, StoreError> {
        let asked_at = Instant::now();
        let page = self.0.feed(after, PAGE).await?;
        let is_last = page.entries.len() < PAGE as usize;
        Ok(Stretch { after: after.cloned(), page, is_last, asked_at })
    }

    async fn listen(&self) -> Result<Box<dyn Listening>, StoreError> {
        Ok(Box::new(Watching(self.0.watch().await?)))
    }

    async fn time(&self) -> Result<Option<Timestamp>, StoreError> {
        self.0.time().await
    }

    fn is_ours(&self) -> bool {
        true
    }

    async fn tell_again(&self, entry: &Revocation, now: Timestamp) -> Result<(), StoreError> {
        let ended = Ended { at: now, why: EndReason::Withdrawn };
        let end = |which| End { which, ended, until: entry.until };
        let is_told = match &entry.what {
            Revoked::Session(id) => self.0.end(end(Which::One(id))).await? == Some(1),
            Revoked::SignIns { up_to } => {
                let moment = up_to.after(Duration::from_micros(1));
                self.0.end(end(Which::StartedBefore(moment))).await?.is_none()
            }
            _ => false,
        };
        if is_told { Ok(()) } else { self.0.revoke(entry).await }
    }
}

#[async_trait]
impl Listening for Watching {
    async fn heard(&mut self, after: Option<&Cursor>) -> Result<Heard, StoreError> {
        match timeout(HEARTBEAT, self.0.grown(after)).await {
            Ok(grown) => grown.map(|()| Heard::Growth),
            Err(_) => Ok(Heard::Nothing),
        }
    }
}
