//! Sessions that are there: looked at, ended, and forgotten.

use serde::Serialize;
#[cfg(feature = "axum")]
use vorsel_core::Scopes;
use vorsel_core::{EndReason, Session};

use super::Sessions;
use super::error::EndError;
use crate::store::{StoreError, Which};

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

    /// Ends sessions by the app's decision: one, all of a subject, or all that started before a moment. They can't be renewed,
    /// and their tokens stop standing. Says how many, where that is known.
    ///
    /// All that started before a moment are ended by one small write, however many there are, so nobody knows how many those
    /// were. Tokens count whole seconds, so what starts within the second of the moment is ended with them. Where this machine's
    /// clock and the store's differ, the moment is the later of what they show.
    ///
    /// # Errors
    /// If the moment is after now, or the store fails.
    pub async fn end(&self, which: Which<'_>) -> Result<Option<u64>, EndError> {
        let (sessions, now) = (self.0.clone(), self.0.access.now());
        let name = match which {
            Which::StartedBefore(_) => String::new(),
            Which::One(name) | Which::OfSubject(name) => name.to_owned(),
        };
        let is_one = matches!(which, Which::One(_));
        let moment = match which {
            Which::StartedBefore(found) => Some(self.0.access.past(found).ok_or(EndError::Future { found, now })?),
            _ => None,
        };
        let end = async move {
            let which = match moment {
                Some(moment) => Which::StartedBefore(moment),
                None if is_one => Which::One(&name),
                None => Which::OfSubject(&name),
            };
            sessions.end_for(which, EndReason::Withdrawn, None).await
        };
        Ok(self.0.access.under_way().carried_out(end).await?)
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
