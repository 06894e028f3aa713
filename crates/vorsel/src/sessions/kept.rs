//! Sessions that are there: looked at and forgotten.

use serde::Serialize;
#[cfg(feature = "axum")]
use vorsel_core::Scopes;
use vorsel_core::Session;

use super::Sessions;
use crate::store::StoreError;

impl<C: Serialize + Send + Sync + 'static> Sessions<C> {
    /// The session of this id, if it can still be renewed.
    ///
    /// # Errors
    /// If the store fails.
    pub async fn session(&self, id: &str) -> Result<Option<Session>, StoreError> {
        let session = self.0.access.asked(self.0.store().load(id)).await?;
        let now = self.0.access.now();
        Ok(session.filter(|session| {
            session.is_live(now) && !self.0.access.known().ended_with_others(session.facts.started_at, now)
        }))
    }

    /// The session of a refresh token that would be renewed by it, and in its current generation.
    pub(crate) async fn of_refresh_token(&self, token: &str) -> Result<Option<Session>, StoreError> {
        let presented = self.0.refresh_tokens.load().check(token, self.0.access.now());
        let Ok(presented) = presented else { return Ok(None) };
        let session = self.session(&presented.session_id).await?;
        Ok(session.filter(|session| session.made(&presented) && session.current.number == presented.generation))
    }

    /// Every scope that the plan declares, if it declares any.
    #[cfg(feature = "axum")]
    pub(crate) fn declared_scopes(&self) -> Option<&Scopes> {
        self.0.declared.as_ref()
    }

    /// Forgets sessions and revocations whose time is over, in small steps; says how many sessions. To be called now and
    /// then, by any instance.
    ///
    /// # Errors
    /// If the store fails.
    pub async fn purge(&self) -> Result<u64, StoreError> {
        const STEP: u32 = 500;
        let (store, now, mut count) = (self.0.store(), self.0.access.now(), 0);
        loop {
            let step = store.purge(now, STEP).await?;
            count += step.sessions;
            if step.sessions.max(step.entries).max(step.taken).max(step.put_off) < u64::from(STEP) {
                return Ok(count);
            }
        }
    }

    /// The sessions of a subject that can still be renewed, the oldest first.
    ///
    /// # Errors
    /// If the store fails.
    pub async fn of_subject(&self, subject: &str) -> Result<Vec<Session>, StoreError> {
        let now = self.0.access.now();
        let mut sessions = self.0.store().of_subject(subject).await?;
        sessions.retain(|session| session.is_live(now));
        Ok(sessions)
    }
}
