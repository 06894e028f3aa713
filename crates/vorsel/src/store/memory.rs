//! Sessions in memory, for tests and for one process that may forget them.

use std::collections::BTreeMap;
use std::sync::{Mutex, MutexGuard, PoisonError};

use async_trait::async_trait;
use vorsel_core::{Ended, Session, Timestamp};

use super::contract::{SessionStore, StoreError, Which};

/// Keeps sessions in memory. They are gone with the process.
#[derive(Debug, Default)]
pub struct MemoryStore {
    sessions: Mutex<BTreeMap<String, Session>>,
}

impl MemoryStore {
    /// An empty store.
    #[must_use]
    pub fn new() -> Self {
        Self::default()
    }

    /// Each method changes the map in one step, so a panic elsewhere cannot leave it half changed.
    fn sessions(&self) -> MutexGuard<'_, BTreeMap<String, Session>> {
        self.sessions.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

#[async_trait]
impl SessionStore for MemoryStore {
    async fn insert(&self, session: &Session) -> Result<(), StoreError> {
        let mut sessions = self.sessions();
        if sessions.contains_key(&session.id) {
            return Err(StoreError::new("insert a session", "its id is taken"));
        }
        sessions.insert(session.id.clone(), session.clone());
        Ok(())
    }

    async fn load(&self, id: &str) -> Result<Option<Session>, StoreError> {
        Ok(self.sessions().get(id).cloned())
    }

    async fn advance(&self, next: &Session) -> Result<bool, StoreError> {
        match self.sessions().get_mut(&next.id) {
            Some(session) if session.ended.is_none() && session.generation + 1 == next.generation => {
                session.generation = next.generation;
                session.renewed_at = next.renewed_at;
                session.idle_until = next.idle_until;
                Ok(true)
            }
            _ => Ok(false),
        }
    }

    async fn of_subject(&self, subject: &str) -> Result<Vec<Session>, StoreError> {
        let sessions = self.sessions();
        let mut found: Vec<_> = sessions.values().filter(|session| session.subject == subject).cloned().collect();
        found.sort_by_key(|session| session.started_at);
        Ok(found)
    }

    async fn end(&self, which: Which<'_>, ended: Ended) -> Result<u64, StoreError> {
        let mut count = 0;
        for session in self.sessions().values_mut() {
            if session.ended.is_none() && which.names(session) {
                session.ended = Some(ended);
                count += 1;
            }
        }
        Ok(count)
    }

    async fn purge(&self, before: Timestamp, limit: u32) -> Result<u64, StoreError> {
        let mut sessions = self.sessions();
        let over = sessions.values().filter(|session| session.idle_until < before).take(limit as usize);
        let over: Vec<_> = over.map(|session| session.id.clone()).collect();
        over.iter().for_each(|id| drop(sessions.remove(id)));
        Ok(over.len() as u64)
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
