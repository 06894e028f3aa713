//! Who a request comes from: its tokens checked, and what has to be looked up or asked for.

use std::sync::Arc;

use serde::de::DeserializeOwned;
use vorsel_core::{Checked, Credential, Proven, Refusal, Timestamp, with_causes};

use super::api_key::ApiKeyHash;
use super::caller::Caller;
use super::credentials::{Shown, Source};
use super::inner::Inner;
use super::request::{Passing, RequestHead};
use crate::checker::{Asked, Found, Looking, NoAnswer, NotChecked};
use crate::tickets::NotTaken;

/// Who the tokens of a request are of, and what is still to be looked up.
pub(super) struct Identified<C> {
    pub(super) caller: Option<(Credential, Caller<C>)>,
    pub(super) lookups: Vec<LookedUp<C>>,
}

/// What a store of the app's, or ours, has to be asked for.
pub(super) enum LookedUp<C> {
    ApiKey(ApiKeyHash),
    Ticket(String),
    /// The key of a token that is looked for.
    Key(Credential, Vec<u8>, Looking),
    /// What its issuer says of a token.
    Asked(Credential, Asked<C>),
}

/// Why the caller of a request is not accepted, and who it would be where a token was accepted before.
pub(super) struct NotAccepted<C> {
    pub(super) refusal: Refusal,
    pub(super) who: Option<Caller<C>>,
}

/// Why it is not known who a token is of.
enum NotKnown<C> {
    Refused(NotAccepted<C>),
    /// Its key is being looked for.
    Yet(Looking),
    /// Its issuer is asked.
    Asked(Asked<C>),
}

impl<C> From<Refusal> for NotAccepted<C> {
    fn from(refusal: Refusal) -> Self {
        Self { refusal, who: None }
    }
}

impl<C: DeserializeOwned + Send + Sync + 'static> Inner<C> {
    /// The caller of nearly every request: one bearer token, as usually written, that was checked before and stands. Of all else
    /// [`identify`](Self::identify) finds out what it is.
    #[inline]
    pub(super) fn seen_before<R: Passing>(&self, request: &R, now: Timestamp) -> Option<Caller<C>> {
        // It may be a preflight.
        if request.is_options() {
            return None;
        }
        let checked = self.checkers.seen_before(self.sources.bearer_alone(request.headers())?, now)?;
        // Where our own issuer is known, no other's tokens are among them.
        Some(Caller::new(checked, self.issuer.is_some(), Credential::Bearer))
    }

    /// Why a caller whose token was accepted does not stand any more, if so.
    #[inline]
    pub(super) fn over(&self, caller: &Caller<C>, now: Timestamp) -> Option<Refusal> {
        if self.gates.are_none() { None } else { self.stopped_at_gates(caller, now) }
    }

    #[inline(never)]
    fn stopped_at_gates(&self, caller: &Caller<C>, now: Timestamp) -> Option<Refusal> {
        self.gates.admit(self.other_issuer(caller), caller.checked(), now).err()
    }

    /// Finds the credentials and checks the tokens among them: all must be for the same caller.
    pub(super) fn identify(&self, request: &dyn RequestHead, now: Timestamp) -> Result<Identified<C>, NotAccepted<C>> {
        let (mut caller, mut lookups) = (None, Vec::new());
        for &(source, shown) in &self.sources.find(request)? {
            match shown {
                Shown::Token(token, proven) => match self.caller(source, token, proven, now) {
                    Ok(found) => caller = Some(joined(caller, source.kind(), found)?),
                    Err(NotKnown::Yet(looking)) => {
                        lookups.push(LookedUp::Key(source.kind(), token.to_owned(), looking));
                    }
                    Err(NotKnown::Asked(asked)) => lookups.push(LookedUp::Asked(source.kind(), asked)),
                    Err(NotKnown::Refused(not)) => return Err(not),
                },
                Shown::ApiKey(key) => lookups.push(LookedUp::ApiKey(ApiKeyHash::of(key))),
                Shown::Ticket(ticket) => lookups.push(LookedUp::Ticket(ticket.to_owned())),
            }
        }
        Ok(Identified { caller, lookups })
    }

    fn caller(
        &self,
        source: &dyn Source,
        token: &[u8],
        proven: Proven<'_>,
        now: Timestamp,
    ) -> Result<Caller<C>, NotKnown<C>> {
        match self.checkers.check(token, proven, now) {
            Ok(found) => self.admitted(found, source.kind(), now).map_err(NotKnown::Refused),
            // A proof is not kept for later: a token that is bound to a key is refused then.
            Err(NotChecked::Looking(looking)) => Err(NotKnown::Yet(looking)),
            Err(NotChecked::Asked(asked)) => Err(NotKnown::Asked(asked)),
            Err(NotChecked::Refused { finding, unanswered }) => {
                let refusal = not_checked(unanswered, || source.explain(token, finding));
                Err(NotKnown::Refused(refusal.into()))
            }
        }
    }

    /// A token whose key was looked for meanwhile, or one that waits for what it takes.
    async fn caller_again(&self, kind: Credential, token: &[u8], now: Timestamp) -> Result<Caller<C>, NotAccepted<C>> {
        let mut checked = self.checkers.check(token, Proven::Nothing, now);
        if let Err(NotChecked::Looking(looking)) = checked {
            looking.await;
            checked = self.checkers.check(token, Proven::Nothing, now);
        }
        match checked {
            Ok(found) => self.admitted(found, kind, now),
            Err(NotChecked::Asked(asked)) => self.answered(kind, asked.await, now),
            Err(NotChecked::Refused { finding, unanswered }) => {
                Err(not_checked(unanswered, || Refusal::BadToken(finding)).into())
            }
            Err(NotChecked::Looking(_)) => {
                let reason = "its keys are being looked for again".to_owned();
                Err(Refusal::Unanswered { what: THE_KEYS.to_owned(), reason }.into())
            }
        }
    }

    /// What an issuer that was asked has said.
    fn answered(
        &self,
        kind: Credential,
        answer: Result<Arc<Checked<C>>, NoAnswer>,
        now: Timestamp,
    ) -> Result<Caller<C>, NotAccepted<C>> {
        match answer {
            Ok(checked) => self.admitted(Found { checked, is_former: false }, kind, now),
            Err(NoAnswer::Refused(finding)) => Err(Refusal::BadToken(finding).into()),
            Err(NoAnswer::Unanswered(reason)) => {
                Err(Refusal::Unanswered { what: "what its issuer says of a token".to_owned(), reason }.into())
            }
        }
    }

    /// The caller of a token that was accepted, if it was not revoked.
    fn admitted(
        &self,
        Found { checked, is_former }: Found<C>,
        kind: Credential,
        now: Timestamp,
    ) -> Result<Caller<C>, NotAccepted<C>> {
        let issuer = checked.claims().issuer();
        let is_own = is_former || issuer.is_some() && issuer == self.issuer.as_deref();
        let caller = Caller::new(checked, is_own, kind);
        match self.over(&caller, now) {
            None => Ok(caller),
            Some(refusal) => Err(NotAccepted { refusal, who: Some(caller) }),
        }
    }

    /// The caller, known by an API key or a ticket as well.
    pub(super) async fn looked_up(
        &self,
        mut caller: Option<(Credential, Caller<C>)>,
        lookups: Vec<LookedUp<C>>,
        path: &str,
        now: Timestamp,
    ) -> Result<Option<(Credential, Caller<C>)>, NotAccepted<C>> {
        for shown in lookups {
            let (kind, found) = match shown {
                LookedUp::ApiKey(hash) => (Credential::ApiKey, self.owner(&hash).await?),
                LookedUp::Ticket(ticket) => (Credential::Ticket, self.holder(&ticket, path, now).await?),
                LookedUp::Key(kind, token, looking) => {
                    looking.await;
                    (kind, self.caller_again(kind, &token, now).await?)
                }
                LookedUp::Asked(kind, asked) => (kind, self.answered(kind, asked.await, now)?),
            };
            caller = Some(joined(caller, kind, found)?);
        }
        Ok(caller)
    }

    async fn owner(&self, hash: &ApiKeyHash) -> Result<Caller<C>, Refusal> {
        let book = self.keys.as_ref().ok_or(Refusal::BadApiKey)?;
        let owner = book.owner(hash).await.map_err(|error| unanswered("the owner of an API key", &*error))?;
        Ok(Caller::new(Arc::new(owner.ok_or(Refusal::BadApiKey)?), true, Credential::ApiKey))
    }

    /// Whoever a ticket stands for. It is used up only once its token was accepted, so that strangers write nothing into the store.
    async fn holder(&self, ticket: &str, path: &str, now: Timestamp) -> Result<Caller<C>, NotAccepted<C>> {
        let not_taken = |not| match not {
            NotTaken::Bad(found) => Refusal::BadTicket { found },
            NotTaken::Unanswered(error) => unanswered("whether a ticket is good", &error),
        };
        let bad = || Refusal::BadTicket { found: "one where none are taken".to_owned() };
        let tickets = self.tickets.as_ref().ok_or_else(bad)?;
        let offset = self.gates.clock_offset();
        let opened = tickets.opened(ticket, path, offset.there(now)).await.map_err(not_taken)?;
        let caller = self.caller_again(Credential::Ticket, opened.token().as_bytes(), now).await?;
        match tickets.used(&opened).await {
            Ok(()) => Ok(caller),
            Err(not) => Err(NotAccepted { refusal: not_taken(not), who: Some(caller) }),
        }
    }
}

/// The caller as known so far, and now by one more credential.
fn joined<C>(
    known: Option<(Credential, Caller<C>)>,
    kind: Credential,
    caller: Caller<C>,
) -> Result<(Credential, Caller<C>), Refusal> {
    match known {
        None => Ok((kind, caller)),
        Some((first, known)) => match known.joined_by(&caller) {
            Some(known) => Ok((first, known)),
            None => Err(Refusal::Disagreement(first, kind)),
        },
    }
}

const THE_KEYS: &str = "the keys of the token's issuer";

fn not_checked(unanswered: Option<String>, explain: impl FnOnce() -> Refusal) -> Refusal {
    match unanswered {
        Some(reason) => Refusal::Unanswered { what: THE_KEYS.to_owned(), reason },
        None => explain(),
    }
}

pub(super) fn unanswered(what: &str, error: &(dyn std::error::Error + Send + Sync + 'static)) -> Refusal {
    Refusal::Unanswered { what: what.to_owned(), reason: with_causes(error) }
}
