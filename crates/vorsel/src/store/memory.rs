//! Sessions in memory, for tests and for one process that may forget them.

use std::collections::BTreeMap;
use std::ops::Bound;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};

use async_trait::async_trait;
use tokio::sync::watch;
use vorsel_core::{Ended, Revocation, Revoked, Session, Timestamp};

use super::contract::{Cursor, FeedPage, FeedWatch, Inserted, Room, SessionStore, StoreError, Which};

/// Keeps sessions in memory. They are gone with the process.
#[derive(Debug, Default)]
pub struct MemoryStore {
    kept: Mutex<Kept>,
    /// How many entries the feed has ever had.
    grown: Arc<watch::Sender<u64>>,
}

#[derive(Debug, Default)]
struct Kept {
    sessions: BTreeMap<String, Session>,
    /// By their place in the feed.
    feed: BTreeMap<u64, Revocation>,
}

impl MemoryStore {
    /// An empty store.
    #[must_use]
    pub fn new() -> Self {
        Self::default()
    }

    /// Each method changes the maps in one step, so a panic elsewhere cannot leave them half changed.
    fn kept(&self) -> MutexGuard<'_, Kept> {
        self.kept.lock().unwrap_or_else(PoisonError::into_inner)
    }

    fn put(&self, kept: &mut Kept, entries: impl IntoIterator<Item = Revocation>) {
        for entry in entries {
            self.grown.send_modify(|count| {
                *count += 1;
                kept.feed.insert(*count, entry);
            });
        }
    }
}

#[async_trait]
impl SessionStore for MemoryStore {
    async fn insert(&self, session: &Session, room: Option<Room>) -> Result<Inserted, StoreError> {
        let mut kept = self.kept();
        if kept.sessions.contains_key(&session.id) {
            return Err(StoreError::new("insert a session", "its id is taken"));
        }
        let mut displaced = Vec::new();
        if let Some(room) = room {
            let live = |other: &&mut Session| other.subject == session.subject && other.is_live(room.now);
            let mut live: Vec<_> = kept.sessions.values_mut().filter(live).collect();
            live.sort_by_key(|other| other.started_at);
            let Some(count) = room.to_displace(live.len()) else { return Ok(Inserted::Full) };
            for other in live.into_iter().take(count) {
                other.ended = Some(room.ended());
                displaced.push(Revocation { what: Revoked::Session(other.id.clone()), until: room.until });
            }
        }
        kept.sessions.insert(session.id.clone(), session.clone());
        let count = displaced.len() as u64;
        self.put(&mut kept, displaced);
        Ok(Inserted::Kept { displaced: count })
    }

    async fn load(&self, id: &str) -> Result<Option<Session>, StoreError> {
        Ok(self.kept().sessions.get(id).cloned())
    }

    async fn advance(&self, next: &Session) -> Result<bool, StoreError> {
        match self.kept().sessions.get_mut(&next.id) {
            Some(session) if session.ended.is_none() && session.generation + 1 == next.generation => {
                session.generation = next.generation;
                session.renewed_at = next.renewed_at;
                session.idle_until = next.idle_until;
                session.spent.clone_from(&next.spent);
                Ok(true)
            }
            _ => Ok(false),
        }
    }

    async fn of_subject(&self, subject: &str) -> Result<Vec<Session>, StoreError> {
        let kept = self.kept();
        let mut found: Vec<_> = kept.sessions.values().filter(|session| session.subject == subject).cloned().collect();
        found.sort_by_key(|session| session.started_at);
        Ok(found)
    }

    async fn page(&self, after: Option<&str>, limit: u32) -> Result<Vec<Session>, StoreError> {
        let from = after.map_or(Bound::Unbounded, Bound::Excluded);
        let kept = self.kept();
        let rest = kept.sessions.range::<str, _>((from, Bound::Unbounded));
        Ok(rest.take(limit as usize).map(|(_, session)| session.clone()).collect())
    }

    async fn end(&self, which: Which<'_>, ended: Ended, until: Timestamp) -> Result<u64, StoreError> {
        let mut kept = self.kept();
        let (up_to, named_from) = which.feed_entries();
        let together = up_to.map(|up_to| Revoked::Everything { up_to });
        let mut entries: Vec<_> = together.map(|what| Revocation { what, until }).into_iter().collect();
        let mut count = 0;
        for session in kept.sessions.values_mut() {
            if session.ended.is_none() && which.names(session) {
                session.ended = Some(ended);
                count += 1;
                if session.started_at >= named_from {
                    entries.push(Revocation { what: Revoked::Session(session.id.clone()), until });
                }
            }
        }
        self.put(&mut kept, entries);
        Ok(count)
    }

    async fn revoke(&self, revocation: &Revocation) -> Result<(), StoreError> {
        self.put(&mut self.kept(), [revocation.clone()]);
        Ok(())
    }

    async fn feed(&self, after: Option<&Cursor>, limit: u32) -> Result<FeedPage, StoreError> {
        let last = after.map_or(Ok(0), place).map_err(|error| StoreError::new("read the feed", error))?;
        let kept = self.kept();
        let page: Vec<_> = kept.feed.range(last + 1..).take(limit as usize).collect();
        let cursor = page.last().map(|(place, _)| Cursor::new(place.to_string())).or_else(|| after.cloned());
        Ok(FeedPage { entries: page.into_iter().map(|(_, entry)| entry.clone()).collect(), cursor })
    }

    async fn watch(&self) -> Result<Box<dyn FeedWatch>, StoreError> {
        Ok(Box::new(MemoryWatch(self.grown.subscribe())))
    }

    async fn purge(&self, before: Timestamp, limit: u32) -> Result<u64, StoreError> {
        let mut kept = self.kept();
        let over = kept.sessions.values().filter(|session| session.idle_until < before).take(limit as usize);
        let over: Vec<_> = over.map(|session| session.id.clone()).collect();
        over.iter().for_each(|id| drop(kept.sessions.remove(id)));
        let old = kept.feed.iter().filter(|(_, entry)| entry.until < before).take(limit as usize);
        let old: Vec<_> = old.map(|(place, _)| *place).collect();
        old.iter().for_each(|place| drop(kept.feed.remove(place)));
        Ok(over.len() as u64)
    }
}

fn place(cursor: &Cursor) -> Result<u64, std::num::ParseIntError> {
    cursor.as_str().parse()
}

struct MemoryWatch(watch::Receiver<u64>);

#[async_trait]
impl FeedWatch for MemoryWatch {
    async fn grown(&mut self, after: Option<&Cursor>) -> Result<(), StoreError> {
        let last = after.and_then(|cursor| place(cursor).ok()).unwrap_or_default();
        let wait = self.0.wait_for(|count| *count > last).await;
        wait.map(drop).map_err(|error| StoreError::new("watch the feed", error))
    }
}

impl Which<'_> {
    fn names(&self, session: &Session) -> bool {
        match self {
            Self::One(id) => session.id == *id,
            Self::OfSubject(subject) => session.subject == *subject,
            Self::StartedBefore(moment) => session.started_at < *moment,
        }
    }
}
