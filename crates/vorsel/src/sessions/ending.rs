//! The end of sessions: by their owner, by the app, for a replay.

use serde::Serialize;
use vorsel_core::{EndReason, Ended, Presented, Session, Timestamp};

use super::error::EndError;
use super::{Inner, RenewError, Sessions, SignOutError};
use crate::audit;
use crate::store::{End, StoreError, Which};

impl<C: Serialize + Send + Sync + 'static> Sessions<C> {
    /// Ends the session of a refresh token; a spent token of the session does as well. A token that is not accepted
    /// ends nothing, and neither does one of a session that has ended: for the client all of this is the same.
    ///
    /// # Errors
    /// If the token was given to another client than this one ([RFC 7009 section 2.1](https://www.rfc-editor.org/rfc/rfc7009#section-2.1)),
    /// or the store fails. A replay by another client ends the session all the same.
    pub async fn sign_out(&self, refresh_token: &str, client_id: Option<&str>) -> Result<(), SignOutError> {
        let (sessions, now) = (self.0.clone(), self.0.access.now());
        let Ok(presented) = sessions.refresh_tokens.load().check(refresh_token, now) else { return Ok(()) };
        let client = client_id.map(str::to_owned);
        let end = async move { sessions.sign_out(&presented, client.as_deref(), now).await };
        self.0.access.under_way().carried_out(end).await
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
}

impl<C: Serialize + Send + Sync + 'static> Inner<C> {
    async fn sign_out(&self, presented: &Presented, client: Option<&str>, now: Timestamp) -> Result<(), SignOutError> {
        match self.of_another_client(presented, client, now).await {
            Some(RenewError::Store(error)) => return Err(error.into()),
            Some(_) => return Err(SignOutError::WrongClient { found: client.unwrap_or_default().to_owned() }),
            None => {}
        }
        let Some(session) = self.store().load(&presented.session_id).await? else { return Ok(()) };
        if session.made(presented) {
            self.end_one(&session, EndReason::SignedOut).await?;
        }
        Ok(())
    }

    pub(super) async fn end_one(&self, session: &Session, why: EndReason) -> Result<(), StoreError> {
        self.end_for(Which::One(&session.id), why, Some(session)).await.map(drop)
    }

    /// Ends them; `known` is the session if it is one, and known.
    async fn end_for(
        &self,
        which: Which<'_>,
        why: EndReason,
        known: Option<&Session>,
    ) -> Result<Option<u64>, StoreError> {
        let now = self.access.now();
        let until = self.access.remembered_until(now);
        let count = self.access.asked(self.store().end(End { which, ended: Ended { at: now, why }, until })).await?;
        match (which, count) {
            // What has ended before does not end once more.
            (Which::One(_) | Which::OfSubject(_), Some(0)) => {}
            (Which::One(id), _) => audit::session_ended(id, known, why),
            (Which::OfSubject(subject), count) => audit::subject_ended(subject, count.unwrap_or_default(), why),
            (Which::StartedBefore(moment), _) => audit::all_ended(moment, why),
        }
        self.access.heard().await;
        Ok(count)
    }
}
