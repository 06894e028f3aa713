//! What goes into an access token, asked for step by step.

use super::claims::NoOwn;
use super::scope::Scopes;
use crate::time::{Lifetime, Timestamp};

/// What goes into an access token ([RFC 9068 section 2.2](https://www.rfc-editor.org/rfc/rfc9068#section-2.2)).
///
/// ```
/// use vorsel_core::{AccessDraft, Lifetime, Scopes};
///
/// let draft = AccessDraft::of("obs-0017").audience("https://api.skarnhill.test").client("desk").lasting(Lifetime::minutes(5));
/// let draft = draft.roles(["observer"]).scopes(Scopes::parse("exposures:read")?);
/// assert_eq!(draft.subject(), "obs-0017");
/// # Ok::<(), vorsel_core::ScopeError>(())
/// ```
#[derive(Clone, Debug)]
pub struct AccessDraft<C = NoOwn> {
    pub(super) subject: String,
    pub(super) audiences: Vec<String>,
    pub(super) not_before: Option<Timestamp>,
    pub(super) client_id: String,
    pub(super) lifetime: Lifetime,
    pub(super) roles: Vec<String>,
    pub(super) scopes: Scopes,
    pub(super) session_id: Option<String>,
    pub(super) authenticated_at: Option<Timestamp>,
    pub(super) session_at: Option<Timestamp>,
    pub(super) acr: Option<String>,
    pub(super) bound_to: Option<String>,
    pub(super) own: C,
}

/// A draft whose audience is still to be said.
///
/// ```
/// use vorsel_core::{AccessDraft, Lifetime};
///
/// let of_whom = AccessDraft::of("obs-0017");
/// let draft = of_whom.audience("https://api.skarnhill.test").client("desk").lasting(Lifetime::minutes(5));
/// ```
#[derive(Clone, Debug)]
#[must_use]
pub struct DraftOfSubject {
    subject: String,
}

/// A draft whose client is still to be said.
///
/// ```
/// use vorsel_core::{AccessDraft, Lifetime};
///
/// let for_whom = AccessDraft::of("obs-0017").audience("https://api.skarnhill.test");
/// let draft = for_whom.client("desk").lasting(Lifetime::minutes(5));
/// ```
#[derive(Clone, Debug)]
#[must_use]
pub struct DraftForAudience {
    subject: String,
    audience: String,
}

/// A draft whose lifetime is still to be said.
///
/// ```
/// use vorsel_core::{AccessDraft, Lifetime};
///
/// let by_whom = AccessDraft::of("obs-0017").audience("https://api.skarnhill.test").client("desk");
/// let draft = by_whom.lasting(Lifetime::minutes(5)); // no token without an end
/// ```
#[derive(Clone, Debug)]
#[must_use]
pub struct DraftByClient {
    subject: String,
    audience: String,
    client_id: String,
}

impl AccessDraft {
    /// The draft of a token about this subject. What every access token needs is asked for step by step, the audience, the
    /// client and the lifetime; roles, scopes and own claims are added to it then.
    ///
    /// ```
    /// use vorsel_core::{AccessDraft, Lifetime};
    ///
    /// let draft = AccessDraft::of("obs-0017")
    ///     .audience("https://api.skarnhill.test")
    ///     .client("desk")
    ///     .lasting(Lifetime::minutes(5))
    ///     .roles(["observer"]);
    /// ```
    ///
    /// Without a lifetime there is no draft:
    ///
    /// ```compile_fail
    /// use vorsel_core::AccessDraft;
    /// let draft = AccessDraft::of("obs-0017").audience("https://api.skarnhill.test").client("desk").roles(["observer"]);
    /// ```
    pub fn of(subject: impl Into<String>) -> DraftOfSubject {
        DraftOfSubject { subject: subject.into() }
    }
}

impl DraftOfSubject {
    /// Whom the token is for, `aud`.
    pub fn audience(self, audience: impl Into<String>) -> DraftForAudience {
        DraftForAudience { subject: self.subject, audience: audience.into() }
    }
}

impl DraftForAudience {
    /// The client that gets it, `client_id`.
    pub fn client(self, id: impl Into<String>) -> DraftByClient {
        DraftByClient { subject: self.subject, audience: self.audience, client_id: id.into() }
    }
}

impl DraftByClient {
    /// How long it lasts.
    #[must_use]
    pub fn lasting(self, lifetime: Lifetime) -> AccessDraft {
        let Self { subject, audience, client_id } = self;
        AccessDraft {
            subject,
            audiences: vec![audience],
            not_before: None,
            client_id,
            lifetime,
            roles: Vec::new(),
            scopes: Scopes::default(),
            session_id: None,
            authenticated_at: None,
            session_at: None,
            acr: None,
            bound_to: None,
            own: NoOwn {},
        }
    }
}

impl<C> AccessDraft<C> {
    /// Whom the token is about, `sub`.
    #[must_use]
    pub fn subject(&self) -> &str {
        &self.subject
    }

    /// The session it belongs to, `sid`.
    #[must_use]
    pub fn session_id(&self) -> Option<&str> {
        self.session_id.as_deref()
    }

    /// One more audience, `aud`: the token is for either
    /// ([RFC 7519 section 4.1.3](https://www.rfc-editor.org/rfc/rfc7519#section-4.1.3)). Whoever takes it can use it at the
    /// other, so they had better trust each other.
    #[must_use]
    pub fn also_for(mut self, audience: impl Into<String>) -> Self {
        self.audiences.push(audience.into());
        self
    }

    /// From when on the token is good, `nbf`, in whole seconds, rounded up; without this from the start. Its lifetime counts
    /// from when it is issued.
    #[must_use]
    pub const fn not_before(mut self, moment: Timestamp) -> Self {
        self.not_before = Some(moment);
        self
    }

    /// The caller's roles.
    #[must_use]
    pub fn roles(mut self, roles: impl IntoIterator<Item = impl Into<String>>) -> Self {
        self.roles = roles.into_iter().map(Into::into).collect();
        self
    }

    /// The scopes granted.
    #[must_use]
    pub fn scopes(mut self, scopes: Scopes) -> Self {
        self.scopes = scopes;
        self
    }

    /// The session the token belongs to, and when the caller authenticated.
    #[must_use]
    pub fn session(mut self, id: impl Into<String>, authenticated_at: Timestamp) -> Self {
        self.session_id = Some(id.into());
        self.authenticated_at = Some(authenticated_at);
        self
    }

    /// When the session began, `session_at`, where the caller had authenticated before: ending all sessions of a time goes by
    /// this.
    #[must_use]
    pub const fn session_at(mut self, moment: Timestamp) -> Self {
        self.session_at = Some(moment);
        self
    }

    /// How the caller authenticated, `acr`: a name that issuer and resource server agree on.
    #[must_use]
    pub fn acr(mut self, acr: impl Into<String>) -> Self {
        self.acr = Some(acr.into());
        self
    }

    /// The thumbprint of the key that the token is bound to, `cnf` with `jkt`: the token is refused wherever its sender does
    /// not prove to hold that key ([RFC 9449 section 6](https://www.rfc-editor.org/rfc/rfc9449#section-6)).
    #[must_use]
    pub fn bound_to(mut self, thumbprint: impl Into<String>) -> Self {
        self.bound_to = Some(thumbprint.into());
        self
    }

    /// The app's own claims, a type that serializes to a JSON object.
    #[must_use]
    pub fn own<D>(self, own: D) -> AccessDraft<D> {
        AccessDraft {
            subject: self.subject,
            audiences: self.audiences,
            not_before: self.not_before,
            client_id: self.client_id,
            lifetime: self.lifetime,
            roles: self.roles,
            scopes: self.scopes,
            session_id: self.session_id,
            authenticated_at: self.authenticated_at,
            session_at: self.session_at,
            acr: self.acr,
            bound_to: self.bound_to,
            own,
        }
    }
}
