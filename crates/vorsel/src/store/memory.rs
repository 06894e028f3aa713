//! Sessions in memory, for tests and for one process that may forget them.

use std::collections::{BTreeMap, BTreeSet};
use std::ops::Bound;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};

use async_trait::async_trait;
use tokio::sync::watch;
use vorsel_core::{Advance, Facts, Revocation, Session, Timestamp};

use super::contract::{Advanced, Cursor, FeedPage, FeedWatch, Kept, Purged, SessionStore, StoreError, StoreFigures};
use super::end::{Cap, End, Inserted, Mark, Which};
use super::entry::{cursor_behind, place_of};

/// Keeps sessions in memory. They are gone with the process.
///
/// ```
/// use std::sync::Arc;
/// use vorsel::store::{MemoryStore, SessionStore};
///
/// let store: Arc<dyn SessionStore> = Arc::new(MemoryStore::new());
/// # drop(store);
/// ```
#[derive(Debug, Default)]
pub struct MemoryStore {
    kept: Mutex<Contents>,
    /// How many entries the feed has ever had.
    grown: Arc<watch::Sender<u64>>,
}

#[derive(Debug, Default)]
struct Contents {
    sessions: BTreeMap<String, Session>,
    marks: Vec<Mark>,
    beside: BTreeMap<String, Kept>,
    /// Until when each id is taken, and what is free when.
    taken: BTreeMap<String, Timestamp>,
    free_at: BTreeSet<(Timestamp, String)>,
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
    fn kept(&self) -> MutexGuard<'_, Contents> {
        self.kept.lock().unwrap_or_else(PoisonError::into_inner)
    }

    fn put(&self, kept: &mut Contents, entries: impl IntoIterator<Item = Revocation>) {
        for entry in entries {
            self.grown.send_modify(|count| {
                *count += 1;
                kept.feed.insert(*count, entry);
            });
        }
    }

    fn carry_out(&self, kept: &mut Contents, end: End<'_>) -> Option<u64> {
        if let Some(mark) = end.mark() {
            mark.put_among(&mut kept.marks);
            self.put(kept, end.entry_for_all());
            return None;
        }
        let (mut entries, marks) = (Vec::new(), &kept.marks);
        let is_meant = |session: &&mut Session| match end.which {
            Which::One(id) => session.id == id,
            Which::OfSubject(subject) => session.facts.subject == subject,
            Which::StartedBefore(_) => false,
        };
        for session in kept.sessions.values_mut().filter(is_meant) {
            if session.ended.is_none() && !Mark::any_covers(marks, session.facts.started_at) {
                session.ended = Some(end.ended);
                entries.extend(end.entry_for(&session.id));
            }
        }
        let count = entries.len() as u64;
        self.put(kept, entries);
        Some(count)
    }
}

impl Contents {
    /// The sessions as they stand.
    fn seen<'s>(&self, sessions: impl IntoIterator<Item = &'s Session>) -> Vec<Session> {
        sessions.into_iter().map(|session| Mark::seen(&self.marks, session.clone())).collect()
    }
}

#[async_trait]
impl SessionStore for MemoryStore {
    async fn insert(&self, session: &Session, cap: Option<Cap>) -> Result<Inserted, StoreError> {
        let mut kept = self.kept();
        if kept.sessions.contains_key(&session.id) {
            return Err(StoreError::new("insert a session", "its id is taken"));
        }
        let mut displaced = 0;
        if let Some(cap) = cap {
            let of_subject = kept.sessions.values().filter(|other| other.facts.subject == session.facts.subject);
            let mut live = kept.seen(of_subject);
            live.retain(|other| other.is_live(cap.now));
            live.sort_by_key(|other| other.facts.started_at);
            let live: Vec<_> = live.into_iter().map(|other| other.id).collect();
            let Some(first) = cap.making_way(&live) else { return Ok(Inserted::Full) };
            displaced = first.iter().filter_map(|id| self.carry_out(&mut kept, cap.end(id))).sum();
        }
        kept.sessions.insert(session.id.clone(), session.clone());
        Ok(Inserted::Kept { displaced })
    }

    async fn load(&self, id: &str) -> Result<Option<Session>, StoreError> {
        let kept = self.kept();
        Ok(kept.seen(kept.sessions.get(id)).pop())
    }

    async fn advance(&self, id: &str, change: Advance<'_>) -> Result<Advanced, StoreError> {
        let kept = &mut *self.kept();
        let is_over =
            |session: &Session| session.ended.is_some() || Mark::any_covers(&kept.marks, session.facts.started_at);
        match kept.sessions.get_mut(id) {
            Some(session) if !is_over(session) && session.current.number < change.current.number => {
                session.current = change.current;
                change.spent.clone_into(&mut session.spent);
                Ok(Advanced::Made)
            }
            _ => Ok(Advanced::Lost),
        }
    }

    async fn authenticated(&self, id: &str, facts: &Facts) -> Result<bool, StoreError> {
        let kept = &mut *self.kept();
        match kept.sessions.get_mut(id) {
            Some(session) if session.ended.is_none() && !Mark::any_covers(&kept.marks, session.facts.started_at) => {
                session.facts = Arc::new(facts.clone());
                Ok(true)
            }
            _ => Ok(false),
        }
    }

    async fn of_subject(&self, subject: &str) -> Result<Vec<Session>, StoreError> {
        let kept = self.kept();
        let mut found = kept.seen(kept.sessions.values().filter(|session| session.facts.subject == subject));
        found.sort_by_key(|session| session.facts.started_at);
        Ok(found)
    }

    async fn page(&self, after: Option<&str>, limit: u32) -> Result<Vec<Session>, StoreError> {
        let from = after.map_or(Bound::Unbounded, Bound::Excluded);
        let kept = self.kept();
        let rest = kept.sessions.range::<str, _>((from, Bound::Unbounded));
        Ok(kept.seen(rest.take(limit as usize).map(|(_, session)| session)))
    }

    async fn end(&self, end: End<'_>) -> Result<Option<u64>, StoreError> {
        Ok(self.carry_out(&mut self.kept(), end))
    }

    async fn revoke(&self, revocation: &Revocation) -> Result<(), StoreError> {
        self.put(&mut self.kept(), [revocation.clone()]);
        Ok(())
    }

    async fn feed(&self, after: Option<&Cursor>, limit: u32) -> Result<FeedPage, StoreError> {
        let last = after.map_or(Ok(0), place).map_err(|error| StoreError::new("read the feed", error))?;
        let kept = self.kept();
        // Whoever follows over HTTP may have read the feed of the process before this one.
        let is_there =
            |cursor: &Cursor| kept.feed.get(&last).is_some_and(|entry| cursor_behind(last, entry) == *cursor);
        let is_anew = after.is_some_and(|cursor| !is_there(cursor));
        let from = if is_anew { 0 } else { last + 1 };
        let page: Vec<_> = kept.feed.range(from..).take(limit as usize).collect();
        let go_on = after.filter(|_| !is_anew).cloned();
        let cursor = page.last().map(|(place, entry)| cursor_behind(place, entry)).or(go_on);
        Ok(FeedPage { entries: page.into_iter().map(|(_, entry)| entry.clone()).collect(), cursor, is_anew })
    }

    async fn watch(&self) -> Result<Box<dyn FeedWatch>, StoreError> {
        Ok(Box::new(MemoryWatch(self.grown.subscribe())))
    }

    /// It goes through all sessions.
    async fn figures(&self, now: Timestamp) -> Result<StoreFigures, StoreError> {
        let kept = self.kept();
        let alive = kept.seen(kept.sessions.values()).iter().filter(|session| session.is_live(now)).count();
        Ok(StoreFigures::new(alive as u64, kept.feed.len() as u64))
    }

    async fn kept(&self, name: &str) -> Result<Option<Kept>, StoreError> {
        Ok(self.kept().beside.get(name).cloned())
    }

    async fn keep(&self, name: &str, after: u64, bytes: &[u8]) -> Result<bool, StoreError> {
        let beside = &mut self.kept().beside;
        let is_next = beside.get(name).map_or(0, |kept| kept.version) == after;
        if is_next {
            beside.insert(name.to_owned(), Kept { version: after + 1, bytes: bytes.to_vec() });
        }
        Ok(is_next)
    }

    async fn take(&self, id: &str, until: Timestamp) -> Result<bool, StoreError> {
        let kept = &mut *self.kept();
        let is_free = !kept.taken.contains_key(id);
        if is_free {
            kept.taken.insert(id.to_owned(), until);
            kept.free_at.insert((until, id.to_owned()));
        }
        Ok(is_free)
    }

    async fn purge(&self, before: Timestamp, limit: u32) -> Result<Purged, StoreError> {
        let mut kept = self.kept();
        let over = kept.sessions.values().filter(|session| session.current.idle_until < before).take(limit as usize);
        let over: Vec<_> = over.map(|session| session.id.clone()).collect();
        over.iter().for_each(|id| drop(kept.sessions.remove(id)));
        let old = kept.feed.iter().filter(|(_, entry)| entry.until < before).take(limit as usize);
        let old: Vec<_> = old.map(|(place, _)| *place).collect();
        old.iter().for_each(|place| drop(kept.feed.remove(place)));
        let mut taken = 0;
        while taken < u64::from(limit)
            && let Some((until, _)) = kept.free_at.first()
            && *until < before
            && let Some((_, id)) = kept.free_at.pop_first()
        {
            kept.taken.remove(&id);
            taken += 1;
        }
        Ok(Purged { sessions: over.len() as u64, entries: old.len() as u64, taken, put_off: 0 })
    }
}

fn place(cursor: &Cursor) -> Result<u64, std::num::ParseIntError> {
    place_of(cursor).parse()
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
