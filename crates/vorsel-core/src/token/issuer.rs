//! Issuing tokens. There is no way to issue one without a lifetime: the drafts ask for it.

use std::collections::BTreeSet;
use std::fmt;
use std::sync::Arc;

use serde::Serialize;
use serde_json::Value;

use super::claims::REGISTERED;
use super::draft::AccessDraft;
use super::jws::{SIZE_LIMIT, write_header};
use super::kind::Kind;
use super::written::{Audience, ClaimsToWrite};
use crate::encoding::base64url;
use crate::encoding::json::{self, Object};
use crate::finding::quoted_list;
use crate::key::{KeyError, SigningKey};
use crate::keyring::Keyring;
use crate::time::Timestamp;

/// Signs tokens in the name of one issuer with the keys of its keyring. Plain data: no IO, no clock, no ids of its own.
///
/// ```
/// use vorsel_core::{AccessDraft, Algorithm, Issuer, Lifetime, SigningKey, Timestamp};
///
/// let issuer = Issuer::new("https://id.skarnhill.test", SigningKey::generate(Algorithm::EdDsa)?);
/// let draft = AccessDraft::of("obs-0017").audience("https://api.skarnhill.test").client("desk").lasting(Lifetime::minutes(5));
/// let token = issuer.access(&draft, "t1", Timestamp::from_secs(1_700_000_000))?;
/// assert_eq!(token.split('.').count(), 3);
/// # Ok::<(), Box<dyn std::error::Error>>(())
/// ```
#[derive(Clone, Debug)]
pub struct Issuer {
    name: String,
    keyring: Keyring,
    size_limit: usize,
    /// The roles that there are; any, if nothing is said.
    roles: Option<Arc<BTreeSet<String>>>,
}

/// Why no token was issued.
///
/// ```
/// # use vorsel_core::{AccessDraft, Algorithm, Issuer, Lifetime, SigningKey, Timestamp};
/// # let issuer = Issuer::new("https://id.skarnhill.test", SigningKey::generate(Algorithm::EdDsa)?).roles(["observer"]);
/// # let draft = AccessDraft::of("obs-0017").audience("https://api.skarnhill.test").client("desk").lasting(Lifetime::minutes(5));
/// let error = issuer.access(&draft.roles(["obsever"]), "t1", Timestamp::from_secs(1_700_000_000)).unwrap_err();
/// assert_eq!(error.to_string(), "expected roles that are declared, such as \"observer\", but found \"obsever\"");
/// # Ok::<(), vorsel_core::KeyError>(())
/// ```
#[derive(thiserror::Error)]
#[non_exhaustive]
pub enum IssueError {
    /// The app's own claims have a member whose name is registered.
    #[error("expected own claims with names of their own, but found {name:?}, which the issuer sets")]
    RegisteredName {
        /// The name.
        name: String,
    },
    /// The app's own claims do not serialize to a JSON object.
    #[error("expected own claims that serialize to an object, but found {found}")]
    NotAnObject {
        /// What they serialize to, or the serializer's error.
        found: String,
    },
    /// The lifetime is longer than the keyring allows for: its key might be destroyed before the token expires.
    #[error("expected a lifetime of at most {longest} s, which the keyring allows for, but found {found} s")]
    LifetimeTooLong {
        /// The keyring's longest lifetime, in seconds.
        longest: u64,
        /// What was asked for, in seconds.
        found: u64,
    },
    /// A role that the issuer was not told of.
    #[error("expected roles that are declared, such as {known}, but found {role:?}")]
    UnknownRole {
        /// The role.
        role: String,
        /// Some of those that are declared.
        known: String,
    },
    /// The issuer, the audience, the subject or the ID is empty; every verifier refuses such a token.
    #[error("expected a text that is not empty in {claim:?}")]
    Empty {
        /// The claim.
        claim: &'static str,
    },
    /// The token would be larger than a verifier looks at.
    #[error("expected a token of at most {limit} bytes, as verifiers take it, but it would have {found}")]
    TooLarge {
        /// The limit.
        limit: usize,
        /// The size.
        found: usize,
    },
    /// No key signs: the active one was compromised and no other has taken its place.
    #[error("expected a key that signs, but the keyring has no active one")]
    NoActiveKey,
    /// Signing failed.
    #[error("the token could not be signed")]
    Signing(#[from] KeyError),
}

readable_debug!(IssueError);

impl Issuer {
    /// The most bytes that a token with security events has, 2 MiB: there are thousands of revocations in one.
    pub const LARGEST_SECURITY_EVENT: usize = 2 * 1024 * 1024;

    /// An issuer with this name, an https URL as a rule, that signs with this keyring, or always with one key.
    #[must_use]
    pub fn new(name: impl Into<String>, keys: impl Into<Keyring>) -> Self {
        Self { name: name.into(), keyring: keys.into(), size_limit: SIZE_LIMIT, roles: None }
    }

    /// The roles that there are, those of an access plan as a rule: a token with any other is not issued. Without this, a
    /// role that the plan does not know goes into the token, and nobody hears of it.
    #[must_use]
    pub fn roles(mut self, roles: impl IntoIterator<Item = impl Into<String>>) -> Self {
        self.roles = Some(Arc::new(roles.into_iter().map(Into::into).collect()));
        self
    }

    /// The largest token that it issues, in bytes, instead of 16 KiB, which is what a verifier looks at unless it is told
    /// otherwise.
    #[must_use]
    pub const fn size_limit(mut self, bytes: usize) -> Self {
        self.size_limit = bytes;
        self
    }

    /// The issuer's name, `iss`.
    #[must_use]
    pub fn name(&self) -> &str {
        &self.name
    }

    /// The keys that sign.
    #[must_use]
    pub const fn keyring(&self) -> &Keyring {
        &self.keyring
    }

    /// Issues an access token. `id` becomes its `jti` and must not be used twice; `now` its `iat`, in whole seconds.
    ///
    /// # Errors
    /// Those of [`prepare`](Self::prepare) and [`Prepared::sign`].
    pub fn access<C: Serialize>(&self, draft: &AccessDraft<C>, id: &str, now: Timestamp) -> Result<String, IssueError> {
        self.prepare(draft, id, now)?.sign()
    }

    /// An access token but for its signature: whatever can be wrong with a draft is found here, and the signature, which
    /// takes most of the time, can be made while something else is waited for.
    ///
    /// # Errors
    /// If the own claims are no object or use a registered name, a role is not [declared](Issuer::roles), the lifetime is
    /// longer than the keyring allows for, the token would be larger than the issuer's limit, or no key is active.
    pub fn prepare<C: Serialize>(
        &self,
        draft: &AccessDraft<C>,
        id: &str,
        now: Timestamp,
    ) -> Result<Prepared, IssueError> {
        let (longest, found) = (self.keyring.times().longest_lifetime, draft.lifetime);
        if found > longest {
            return Err(IssueError::LifetimeTooLong { longest: longest.as_secs(), found: found.as_secs() });
        }
        let own = own_claims(&draft.own)?;
        if let Some(name) = own.keys().find(|name| REGISTERED.contains(&name.as_str())) {
            return Err(IssueError::RegisteredName { name: name.clone() });
        }
        if let Some(known) = &self.roles
            && let Some(role) = draft.roles.iter().find(|role| !known.contains(*role))
        {
            let known = quoted_list(known.iter().map(String::as_str));
            return Err(IssueError::UnknownRole { role: role.clone(), known });
        }
        let issued = now.whole_secs();
        let claims = ClaimsToWrite {
            nbf: draft.not_before.map(|moment| moment.next_whole_sec().as_secs()),
            exp: Some(issued.after(draft.lifetime.as_duration()).as_secs()),
            sub: Some(&draft.subject),
            client_id: Some(&draft.client_id),
            scope: draft.scopes.as_str(),
            roles: &draft.roles,
            sid: draft.session_id.as_deref(),
            auth_time: draft.authenticated_at.map(Timestamp::as_secs),
            session_at: draft.session_at.map(Timestamp::as_secs),
            acr: draft.acr.as_deref(),
            jkt: draft.bound_to.as_deref(),
            ..ClaimsToWrite::of(&self.name, Audience::of(&draft.audiences), id, issued, &own)
        };
        self.write(Kind::Access, &claims, now)
    }

    /// Signs security events for one who follows this issuer ([RFC 8417 section 2](https://www.rfc-editor.org/rfc/rfc8417#section-2)),
    /// an object that says something of each by its URI. `id` becomes its `jti`, `now` its `iat`, in whole seconds; there
    /// is no `exp`, since what has happened does not expire.
    ///
    /// # Errors
    /// If a name is empty, no key is active, the token would have more than
    /// [`LARGEST_SECURITY_EVENT`](Self::LARGEST_SECURITY_EVENT) bytes, or the primitive fails.
    pub fn security_event<E: Serialize>(
        &self,
        audience: &str,
        id: &str,
        events: &E,
        now: Timestamp,
    ) -> Result<String, IssueError> {
        #[derive(Serialize)]
        struct Events<'a, E> {
            events: &'a E,
        }
        let claims = ClaimsToWrite::of(&self.name, Audience::One(audience), id, now, Events { events });
        self.write(Kind::SecurityEvent, &claims, now)?.sign()
    }

    /// The claims as a token of this kind, for the key of the moment `at` to sign.
    pub(crate) fn write<C: Serialize>(
        &self,
        kind: Kind,
        claims: &ClaimsToWrite<'_, C>,
        at: Timestamp,
    ) -> Result<Prepared, IssueError> {
        let names = [("iss", Some(claims.iss)), ("sub", claims.sub), ("jti", Some(claims.jti))];
        let names = names.into_iter().filter_map(|(claim, name)| Some((claim, name?)));
        let audiences = claims.aud.iter().map(|audience| ("aud", audience));
        if let Some((claim, _)) = names.chain(audiences).find(|(_, name)| name.is_empty()) {
            return Err(IssueError::Empty { claim });
        }
        let key = self.keyring.signing_key(at).ok_or(IssueError::NoActiveKey)?.clone();
        let mut json = Vec::with_capacity(USUAL_CLAIMS);
        write_header(key.verifying(), kind, &mut json);
        let header = json.len();
        claims.write(&mut json).map_err(|error| IssueError::NotAnObject { found: error.to_string() })?;
        let (header, claims) = json.split_at(header);
        let lengths = [header.len(), claims.len(), key.signature_length()].map(base64url::encoded_length);
        let found = lengths.iter().sum::<usize>() + 2;
        let limit = if kind == Kind::SecurityEvent { Self::LARGEST_SECURITY_EVENT } else { self.size_limit };
        if found > limit {
            return Err(IssueError::TooLarge { limit, found });
        }
        let mut signed = String::with_capacity(found);
        base64url::encode_onto(header, &mut signed);
        signed.push('.');
        base64url::encode_onto(claims, &mut signed);
        Ok(Prepared { signed, key })
    }
}

/// A token that lacks only its signature.
///
/// ```
/// # use vorsel_core::{AccessDraft, Algorithm, Issuer, Lifetime, SigningKey, Timestamp};
/// # let issuer = Issuer::new("https://id.skarnhill.test", SigningKey::generate(Algorithm::EdDsa)?);
/// # let draft = AccessDraft::of("obs-0017").audience("https://api.skarnhill.test").client("desk").lasting(Lifetime::minutes(5));
/// let prepared = issuer.prepare(&draft, "t1", Timestamp::from_secs(1_700_000_000))?; // all that can be wrong with it is found by now
/// let token = prepared.sign()?;
/// # Ok::<(), Box<dyn std::error::Error>>(())
/// ```
pub struct Prepared {
    /// What the signature is of ([RFC 7515 section 5.1](https://www.rfc-editor.org/rfc/rfc7515#section-5.1)).
    signed: String,
    key: Arc<SigningKey>,
}

impl Prepared {
    /// Signs it.
    ///
    /// # Errors
    /// If the primitive fails, for want of randomness for instance.
    pub fn sign(self) -> Result<String, IssueError> {
        let Self { signed: mut token, key } = self;
        let signature = key.sign(token.as_bytes())?;
        token.push('.');
        base64url::encode_onto(&signature, &mut token);
        Ok(token)
    }
}

impl fmt::Debug for Prepared {
    /// Not the text: with a refresh token's key alone, it would be a token.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("Prepared").field("key", &self.key).finish_non_exhaustive()
    }
}

/// As many bytes have the header and the claims as a rule, or fewer.
const USUAL_CLAIMS: usize = 512;

fn own_claims<C: Serialize>(own: &C) -> Result<Object, IssueError> {
    match serde_json::to_value(own) {
        Ok(Value::Object(own)) => Ok(own),
        Ok(other) => Err(IssueError::NotAnObject { found: json::type_name(&other).to_owned() }),
        Err(error) => Err(IssueError::NotAnObject { found: error.to_string() }),
    }
}
