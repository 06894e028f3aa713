//! Signing in again inside a session.

use serde::Serialize;
use vorsel_core::{Facts, Session, SignIn};

use super::error::{RenewError, StartError};
use super::{RenewalRequest, Sessions, TokenReply};
use crate::audit;
use crate::store::StoreError;

impl<C: Serialize + Send + Sync + 'static> Sessions<C> {
    /// Signs somebody in again who shows the current refresh token of their session, by the same client: for a plan that asks for
    /// `signed-in within 10m`. The token is spent, the session goes on, and its tokens say that the caller has authenticated now, in
    /// the way of this sign-in. Whoever is another subject, or shows another token, gets a session of their own.
    ///
    /// # Errors
    /// As [`start`](Self::start).
    pub async fn sign_in_again(&self, refresh_token: &str, sign_in: SignIn) -> Result<TokenReply, StartError> {
        let session = self.of_refresh_token(refresh_token).await?;
        let is_same = |session: &Session| {
            session.facts.subject == sign_in.subject() && session.facts.client_id == sign_in.client_id()
        };
        let Some(session) = session.filter(is_same) else { return self.start(sign_in).await };
        if !self.authenticate(refresh_token, &session, &sign_in).await? {
            return self.start(sign_in).await;
        }
        let request = RenewalRequest { client_id: Some(sign_in.client_id()), scopes: sign_in.asked_scopes() };
        match self.renew(refresh_token, request).await {
            Ok(reply) => {
                audit::signed_in_again(&session);
                Ok(reply)
            }
            Err(RenewError::Store(error)) => Err(error.into()),
            Err(RenewError::Issue(error)) => Err(error.into()),
            Err(RenewError::Random(error)) => Err(error.into()),
            Err(RenewError::Admission(error)) => Err(error.into()),
            Err(RenewError::ScopeNotGranted { granted, asked }) => Err(StartError::Scopes { most: granted, asked }),
            // It has ended meanwhile.
            Err(_) => self.start(sign_in).await,
        }
    }

    /// Whether the session lives and says now how and when its caller authenticated.
    async fn authenticate(&self, token: &str, session: &Session, sign_in: &SignIn) -> Result<bool, StoreError> {
        let now = self.0.access.now();
        let acr = sign_in.acr_value().map(str::to_owned);
        let mut facts = Facts::clone(&session.facts);
        (facts.authenticated_at, facts.acr) = (now, acr);
        let kept = self.0.access.asked(self.0.store().authenticated(&session.id, &facts)).await?;
        // What is remembered here has the facts of before.
        drop(self.0.recent.take(token, self.0.refresh_tokens.version(), now));
        Ok(kept)
    }
}
