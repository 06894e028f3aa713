//! The claims of a token: the registered ones by type, the app's own as JSON and as the app's type.

use std::fmt;
use std::sync::Arc;

use serde_json::Value;
use smallvec::SmallVec;

use super::names::{NameHash, NameHashes};
use super::own::OwnClaims;
use super::page::{Excerpt, Page};
use super::passed::Passed;
use crate::encoding::json::{self, Object};
use crate::time::Timestamp;

/// One or two texts, as most tokens have, need no memory of their own.
pub(crate) type Excerpts = SmallVec<[Excerpt; 2]>;

/// The claims of a token whose expectations all held, as far as the holder of this type is concerned: outside this
/// crate it is only reached through [`Checked`].
///
/// ```
/// # use vorsel_core::{AccessDraft, Algorithm, Expectations, Issuer, KeySet, Lifetime, SigningKey, Timestamp, Verifier};
/// # let key = SigningKey::generate(Algorithm::EdDsa)?;
/// # let verifier = Verifier::new(KeySet::new([key.verifying_key()]), Expectations::access("https://id.skarnhill.test", "https://api.skarnhill.test"));
/// # let issuer = Issuer::new("https://id.skarnhill.test", key);
/// # let draft = AccessDraft::of("obs-0017").audience("https://api.skarnhill.test").client("desk").lasting(Lifetime::minutes(5));
/// # let now = Timestamp::from_secs(1_700_000_000);
/// # let token = issuer.access(&draft.roles(["observer"]), "t1", now)?;
/// let checked = verifier.check(&token, now)?;
/// let claims = checked.claims();
/// assert_eq!((claims.subject(), claims.client_id()), (Some("obs-0017"), Some("desk")));
/// assert!(claims.roles().eq(["observer"]));
/// assert_eq!(claims.own("telescope"), None);
/// # Ok::<(), Box<dyn std::error::Error>>(())
/// ```
#[derive(Clone, PartialEq)]
pub struct Claims {
    /// The texts that the spans lead into.
    pub(crate) page: Page,
    pub(crate) issuer: Option<Excerpt>,
    pub(crate) subject: Option<Excerpt>,
    pub(crate) audience: Option<Excerpts>,
    pub(crate) expires_at: Option<Timestamp>,
    pub(crate) not_before: Option<Timestamp>,
    pub(crate) issued_at: Option<Timestamp>,
    pub(crate) id: Option<Excerpt>,
    pub(crate) client_id: Option<Excerpt>,
    pub(crate) scopes: Option<Excerpt>,
    pub(crate) roles: Option<Excerpts>,
    pub(crate) session_id: Option<Excerpt>,
    pub(crate) authenticated_at: Option<Timestamp>,
    pub(crate) session_at: Option<Timestamp>,
    pub(crate) acr: Option<Excerpt>,
    pub(crate) confirmation: Option<Box<Object>>,
    pub(crate) own: OwnClaims,
}

/// The names that are not the app's to use for its own claims.
pub(crate) const REGISTERED: [&str; 15] = [
    "iss",
    "sub",
    "aud",
    "exp",
    "nbf",
    "iat",
    "jti",
    "client_id",
    "scope",
    "roles",
    "sid",
    "auth_time",
    "session_at",
    "acr",
    "cnf",
];

/// The bit of a registered name, or 0 for a name of the app's own.
pub(crate) fn registered_bit(name: &str) -> u16 {
    REGISTERED.iter().position(|registered| *registered == name).map_or(0, |at| 1 << at)
}

impl Claims {
    /// No claim at all. Not `Default`, which would let anybody make claims that nobody checked.
    pub(crate) fn none() -> Self {
        Self {
            page: Page::empty(),
            issuer: None,
            subject: None,
            audience: None,
            expires_at: None,
            not_before: None,
            issued_at: None,
            id: None,
            client_id: None,
            scopes: None,
            roles: None,
            session_id: None,
            authenticated_at: None,
            session_at: None,
            acr: None,
            confirmation: None,
            own: OwnClaims::new(),
        }
    }

    /// When nothing speaks against them, without anything being allowed for: from when on, and until when. Never, if their sender has
    /// to prove something.
    fn undoubted(&self) -> (Timestamp, Timestamp) {
        let from = [self.not_before, self.issued_at, self.authenticated_at].into_iter().flatten().max();
        let until =
            if self.confirmation.is_some() { Timestamp::MIN } else { self.expires_at.unwrap_or(Timestamp::MAX) };
        (from.unwrap_or(Timestamp::MIN), until)
    }

    /// Whether the claim of that name is there, registered or not.
    pub(crate) fn has(&self, name: &str) -> bool {
        match registered_bit(name) {
            0 => self.own.get(&self.page, name).is_some(),
            bit => self.registered_bits() & bit != 0,
        }
    }

    /// Which of [`REGISTERED`] are there, the first one in the lowest bit.
    pub(crate) fn registered_bits(&self) -> u16 {
        let there = [
            self.issuer.is_some(),
            self.subject.is_some(),
            self.audience.is_some(),
            self.expires_at.is_some(),
            self.not_before.is_some(),
            self.issued_at.is_some(),
            self.id.is_some(),
            self.client_id.is_some(),
            self.scopes.is_some(),
            self.roles.is_some(),
            self.session_id.is_some(),
            self.authenticated_at.is_some(),
            self.session_at.is_some(),
            self.acr.is_some(),
            self.confirmation.is_some(),
        ];
        there.iter().rev().fold(0, |bits, there| bits << 1 | u16::from(*there))
    }

    /// How many bytes of memory the claims hold besides their own size, or a few more.
    #[must_use]
    pub fn memory(&self) -> usize {
        let lists = self.audience.iter().chain(&self.roles);
        let spilled: usize =
            lists.filter(|list| list.spilled()).map(|list| list.capacity() * size_of::<Excerpt>()).sum();
        let confirmation = self.confirmation.as_ref().map_or(0, |object| size_of::<Object>() + json::memory(object));
        self.page.memory() + spilled + confirmation + self.own.memory()
    }

    fn text(&self, span: Option<Excerpt>) -> Option<&str> {
        span.map(|span| self.page.text(span))
    }

    fn texts(&self, spans: Option<&Excerpts>) -> impl Iterator<Item = &str> {
        spans.into_iter().flatten().map(|span| self.page.text(*span))
    }

    /// The issuer, `iss`.
    #[must_use]
    pub fn issuer(&self) -> Option<&str> {
        self.text(self.issuer)
    }

    /// The subject, `sub`.
    #[must_use]
    pub fn subject(&self) -> Option<&str> {
        self.text(self.subject)
    }

    /// The audiences, `aud`.
    pub fn audience(&self) -> impl Iterator<Item = &str> {
        self.texts(self.audience.as_ref())
    }

    /// The expiration time, `exp`.
    #[must_use]
    pub const fn expires_at(&self) -> Option<Timestamp> {
        self.expires_at
    }

    /// When the token begins to be valid, `nbf`.
    #[must_use]
    pub const fn not_before(&self) -> Option<Timestamp> {
        self.not_before
    }

    /// What the token is bound to, `cnf` ([RFC 7800 section 3.1](https://www.rfc-editor.org/rfc/rfc7800#section-3.1)). A
    /// token that was accepted had it proven.
    #[must_use]
    pub fn confirmation(&self) -> Option<&Object> {
        self.confirmation.as_deref()
    }

    /// When the token was issued, `iat`.
    #[must_use]
    pub const fn issued_at(&self) -> Option<Timestamp> {
        self.issued_at
    }

    /// The JWT ID, `jti`.
    #[must_use]
    pub fn id(&self) -> Option<&str> {
        self.text(self.id)
    }

    /// The client, `client_id`.
    #[must_use]
    pub fn client_id(&self) -> Option<&str> {
        self.text(self.client_id)
    }

    /// The scopes, `scope`.
    pub fn scopes(&self) -> impl Iterator<Item = &str> {
        self.text(self.scopes).unwrap_or_default().split(' ').filter(|scope| !scope.is_empty())
    }

    /// Whether this scope is among [`scopes`](Self::scopes).
    #[must_use]
    pub fn has_scope(&self, scope: &str) -> bool {
        let scopes = self.text(self.scopes).unwrap_or_default().as_bytes();
        !scope.is_empty() && scopes.split(|byte| *byte == b' ').any(|held| held == scope.as_bytes())
    }

    /// The roles, `roles`.
    pub fn roles(&self) -> impl Iterator<Item = &str> {
        self.texts(self.roles.as_ref())
    }

    /// The session ID, `sid`.
    #[must_use]
    pub fn session_id(&self) -> Option<&str> {
        self.text(self.session_id)
    }

    /// When the session began, where that is not when the caller authenticated: `session_at`, a claim of this library's
    /// own issuers.
    #[must_use]
    pub const fn session_at(&self) -> Option<Timestamp> {
        self.session_at
    }

    /// When the caller authenticated, `auth_time`.
    #[must_use]
    pub const fn authenticated_at(&self) -> Option<Timestamp> {
        self.authenticated_at
    }

    /// How the caller authenticated, `acr`.
    #[must_use]
    pub fn acr(&self) -> Option<&str> {
        self.text(self.acr)
    }

    /// A claim of the app's own, as JSON.
    #[must_use]
    pub fn own(&self, name: &str) -> Option<&Value> {
        self.own.get(&self.page, name)
    }
}

impl fmt::Debug for Claims {
    /// The members that are there.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let mut members = f.debug_map();
        let ids = [("iss", self.issuer), ("sub", self.subject), ("client_id", self.client_id), ("jti", self.id)];
        let texts = [("sid", self.session_id), ("scope", self.scopes), ("acr", self.acr)];
        for (name, span) in ids.into_iter().chain(texts) {
            members.entries(self.text(span).map(|text| (name, text)));
        }
        for (name, spans) in [("aud", &self.audience), ("roles", &self.roles)] {
            members.entries(spans.as_ref().map(|spans| (name, self.texts(Some(spans)).collect::<Vec<_>>())));
        }
        let times = [("exp", self.expires_at), ("nbf", self.not_before), ("iat", self.issued_at)];
        for (name, time) in
            times.into_iter().chain([("auth_time", self.authenticated_at), ("session_at", self.session_at)])
        {
            members.entries(time.map(|time| (name, time)));
        }
        members.entries(self.confirmation.as_ref().map(|confirmation| ("cnf", confirmation)));
        members.entries(self.own.iter(&self.page)).finish()
    }
}

/// The app's own claims of an app that has none: whatever the token carries besides is left unread.
///
/// ```
/// use vorsel_core::{NoOwn, Vouched};
///
/// let caller = Vouched::subject("obs-0017").checked()?;
/// assert_eq!(caller.own(), &NoOwn {});
/// # Ok::<(), vorsel_core::VouchError>(())
/// ```
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, serde::Serialize, serde::Deserialize)]
pub struct NoOwn {}

/// Claims that passed every expectation, with the app's own part as the app's type `C`.
///
/// Only [`Verifier`](crate::Verifier) makes one, or the app itself where it vouches for a caller without a token
/// (`Vouched`): whoever holds it need not ask whether the token was checked.
///
/// ```
/// use vorsel_core::{Checked, Vouched};
///
/// #[derive(serde::Serialize)]
/// struct Own {
///     telescopes: Vec<String>,
/// }
///
/// let own = Own { telescopes: vec!["north".to_owned()] };
/// let caller: Checked<Own> = Vouched::subject("obs-0017").own(own).checked()?;
/// assert_eq!(caller.own().telescopes, ["north"]);
/// # Ok::<(), vorsel_core::VouchError>(())
/// ```
#[derive(Clone, Debug, PartialEq)]
#[repr(C)]
pub struct Checked<C = NoOwn> {
    // In this order, what every request asks for stands together.
    undoubted: (Timestamp, Timestamp),
    passed: Passed,
    claims: Box<Claims>,
    names: NameHashes,
    own: C,
    key_id: Option<Arc<str>>,
}

impl<C> Checked<C> {
    pub(crate) fn new(claims: Box<Claims>, own: C, key_id: Option<Arc<str>>) -> Self {
        Self {
            undoubted: claims.undoubted(),
            passed: Passed::default(),
            claims,
            names: NameHashes::default(),
            own,
            key_id,
        }
    }

    /// Whether these claims stand at `now` beyond doubt: they have begun and have not expired
    /// ([RFC 7519 sections 4.1.4 to 4.1.6](https://www.rfc-editor.org/rfc/rfc7519#section-4.1.4)), without anything being allowed for clocks,
    /// and their sender has nothing to prove. Then a verifier that has accepted them accepts them again; else
    /// [`check_again`](crate::Verifier::check_again) tells.
    #[inline]
    #[must_use]
    pub fn is_undoubted(&self, now: Timestamp) -> bool {
        let (from, until) = self.undoubted;
        from <= now && now < until
    }

    /// The registered claims.
    #[must_use]
    pub const fn claims(&self) -> &Claims {
        &self.claims
    }

    /// The app's own claims.
    #[must_use]
    pub const fn own(&self) -> &C {
        &self.own
    }

    pub(crate) const fn passed(&self) -> &Passed {
        &self.passed
    }

    /// Of its session, of its ID, of its subject and of its key.
    pub(crate) fn name_hashes(&self) -> [Option<NameHash>; 4] {
        let claims = &self.claims;
        self.names.of(|| [claims.session_id(), claims.id(), claims.subject(), self.key_id()])
    }

    /// The ID of the key that signed the token; none where the app vouched for the caller.
    #[must_use]
    pub fn key_id(&self) -> Option<&str> {
        self.key_id.as_deref()
    }
}
