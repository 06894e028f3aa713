//! The claims of a token: the registered ones by type, the app's own as JSON and as the app's type.

use compact_str::CompactString;
use serde_json::Value;

use crate::json::Object;
use crate::own::OwnClaims;
use crate::scope::Scopes;
use crate::time::Timestamp;

/// The claims of a token whose expectations all held, as far as the holder of this type is concerned: outside this
/// crate it is only reached through [`Checked`].
#[derive(Clone, Debug, PartialEq)]
pub struct Claims {
    pub(crate) issuer: Option<String>,
    pub(crate) subject: Option<CompactString>,
    pub(crate) audience: Option<Vec<String>>,
    pub(crate) expires_at: Option<Timestamp>,
    pub(crate) not_before: Option<Timestamp>,
    pub(crate) issued_at: Option<Timestamp>,
    pub(crate) id: Option<CompactString>,
    pub(crate) client_id: Option<CompactString>,
    pub(crate) scopes: Option<Scopes>,
    pub(crate) roles: Option<Vec<String>>,
    pub(crate) session_id: Option<CompactString>,
    pub(crate) authenticated_at: Option<Timestamp>,
    pub(crate) acr: Option<String>,
    pub(crate) confirmation: Option<Object>,
    pub(crate) own: OwnClaims,
}

/// The names that are not the app's to use for its own claims.
pub(crate) const REGISTERED: [&str; 14] =
    ["iss", "sub", "aud", "exp", "nbf", "iat", "jti", "client_id", "scope", "roles", "sid", "auth_time", "acr", "cnf"];

impl Claims {
    /// No claim at all. Not `Default`, which would let anybody make claims that nobody checked.
    pub(crate) fn none() -> Self {
        Self {
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
            acr: None,
            confirmation: None,
            own: OwnClaims::new(),
        }
    }

    /// Whether the claim of that name is there, registered or not.
    pub(crate) fn has(&self, name: &str) -> bool {
        match name {
            "iss" => self.issuer.is_some(),
            "sub" => self.subject.is_some(),
            "aud" => self.audience.is_some(),
            "exp" => self.expires_at.is_some(),
            "nbf" => self.not_before.is_some(),
            "iat" => self.issued_at.is_some(),
            "jti" => self.id.is_some(),
            "client_id" => self.client_id.is_some(),
            "scope" => self.scopes.is_some(),
            "roles" => self.roles.is_some(),
            "sid" => self.session_id.is_some(),
            "auth_time" => self.authenticated_at.is_some(),
            "acr" => self.acr.is_some(),
            "cnf" => self.confirmation.is_some(),
            own => self.own.get(own).is_some(),
        }
    }

    /// The issuer, `iss`.
    #[must_use]
    pub fn issuer(&self) -> Option<&str> {
        self.issuer.as_deref()
    }

    /// The subject, `sub`.
    #[must_use]
    pub fn subject(&self) -> Option<&str> {
        self.subject.as_deref()
    }

    /// The audiences, `aud`.
    #[must_use]
    pub fn audience(&self) -> &[String] {
        self.audience.as_deref().unwrap_or_default()
    }

    /// The expiration time, `exp`.
    #[must_use]
    pub const fn expires_at(&self) -> Option<Timestamp> {
        self.expires_at
    }

    /// When the token was issued, `iat`.
    #[must_use]
    pub const fn issued_at(&self) -> Option<Timestamp> {
        self.issued_at
    }

    /// The JWT ID, `jti`.
    #[must_use]
    pub fn id(&self) -> Option<&str> {
        self.id.as_deref()
    }

    /// The client, `client_id`.
    #[must_use]
    pub fn client_id(&self) -> Option<&str> {
        self.client_id.as_deref()
    }

    /// The scopes, `scope`.
    #[must_use]
    pub fn scopes(&self) -> &Scopes {
        static NONE: Scopes = Scopes::none();
        self.scopes.as_ref().unwrap_or(&NONE)
    }

    /// The roles, `roles`.
    #[must_use]
    pub fn roles(&self) -> &[String] {
        self.roles.as_deref().unwrap_or_default()
    }

    /// The session ID, `sid`.
    #[must_use]
    pub fn session_id(&self) -> Option<&str> {
        self.session_id.as_deref()
    }

    /// When the caller authenticated, `auth_time`.
    #[must_use]
    pub const fn authenticated_at(&self) -> Option<Timestamp> {
        self.authenticated_at
    }

    /// A claim of the app's own, as JSON.
    #[must_use]
    pub fn own(&self, name: &str) -> Option<&Value> {
        self.own.get(name)
    }
}

/// The app's own claims of an app that has none: whatever the token carries besides is left unread.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, serde::Serialize, serde::Deserialize)]
pub struct NoOwn {}

/// Claims that passed every expectation, with the app's own part as the app's type `C`.
///
/// Only [`Verifier`](crate::Verifier) makes one, so whoever holds it need not ask whether the token was checked.
#[derive(Clone, Debug, PartialEq)]
pub struct Checked<C = NoOwn> {
    claims: Claims,
    own: C,
}

impl<C> Checked<C> {
    pub(crate) const fn new(claims: Claims, own: C) -> Self {
        Self { claims, own }
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
}
