//! Who is calling, in the handler.

use std::sync::Arc;

use http::Extensions;
use vorsel_core::{CallerFacts, Checked, Claims, Credential, Credentials, NoOwn};

/// Who is calling: claims that were checked, the app's own part as `C`. Cloning is cheap.
///
/// ```
/// use vorsel::Caller;
///
/// #[derive(serde::Deserialize)]
/// struct Staff {
///     training: u8,
/// }
///
/// /// A handler of axum asks for it.
/// async fn dome(caller: Caller<Staff>) -> String {
///     format!("{} has training {}", caller.subject(), caller.own().training)
/// }
/// ```
#[derive(Debug)]
pub struct Caller<C = NoOwn> {
    checked: Arc<Checked<C>>,
    /// Whether `sub` can mean one of our own people: the token is of the issuer that the guard expects, or the app vouches.
    own_issuer: bool,
    credentials: Credentials,
    /// The client whose API key came along beside the token of a person.
    key_client: Option<Arc<str>>,
    /// What predicates have looked up.
    loaded: Option<Arc<Extensions>>,
}

impl<C> Caller<C> {
    pub(super) fn new(checked: Arc<Checked<C>>, own_issuer: bool, kind: Credential) -> Self {
        Self { checked, own_issuer, credentials: kind.into(), key_client: None, loaded: None }
    }

    pub(super) fn with_loaded(self, loaded: Extensions) -> Self {
        Self { loaded: (!loaded.is_empty()).then(|| Arc::new(loaded)), ..self }
    }

    /// The same caller, known by another credential as well, if that is of the same person or client, or if it is the key of
    /// the client that a person uses.
    pub(super) fn joined_by(mut self, other: &Self) -> Option<Self> {
        let subjects = self.token_claims().subject().zip(other.token_claims().subject());
        let is_same = self.own_issuer == other.own_issuer
            && self.as_client() == other.as_client()
            && subjects.is_some_and(|(one, other)| one == other);
        if !is_same {
            let key = other.credentials.contains(Credential::ApiKey).then(|| other.as_client()).flatten();
            self.key_client = Some(key.filter(|_| self.as_client().is_none())?.into());
        }
        self.credentials = other.credentials.iter().fold(self.credentials, Credentials::with);
        Some(self)
    }

    /// The client, if that is who calls, rather than a person: it is the subject itself
    /// ([RFC 9068 section 2.2](https://www.rfc-editor.org/rfc/rfc9068#section-2.2)).
    fn as_client(&self) -> Option<&str> {
        let claims = self.token_claims();
        claims.client_id().filter(|client| claims.subject() == Some(client))
    }

    /// What the access plan decides by.
    pub(crate) fn facts<'a>(&'a self, answers: &'a [(String, bool)]) -> CallerFacts<'a> {
        let mut facts = CallerFacts::from(&*self.checked);
        facts.own_issuer = self.own_issuer;
        facts.key_client = self.key_client.as_deref();
        facts.credentials = self.credentials;
        facts.answers = answers;
        facts
    }

    /// The issuer of a token that is not of our own.
    pub(super) fn other_issuer(&self) -> Option<&str> {
        if self.own_issuer { None } else { self.token_claims().issuer() }
    }

    pub(super) fn checked(&self) -> &Checked<C> {
        &self.checked
    }

    /// The subject; empty only for a plain token without `sub`.
    #[must_use]
    pub fn subject(&self) -> &str {
        self.token_claims().subject().unwrap_or_default()
    }

    /// The roles the token names. What they include is for the access plan to know.
    pub fn roles(&self) -> impl Iterator<Item = &str> {
        self.token_claims().roles()
    }

    /// Whether the token grants this scope.
    #[must_use]
    pub fn has_scope(&self, scope: &str) -> bool {
        self.token_claims().has_scope(scope)
    }

    /// The app's own claims.
    #[must_use]
    pub fn own(&self) -> &C {
        self.checked.own()
    }

    /// All registered claims; of the owner of an API key those that the app has vouched for.
    #[must_use]
    pub fn token_claims(&self) -> &Claims {
        self.checked.claims()
    }

    /// The client whose API key came along beside the token of a person, if one did.
    #[must_use]
    pub fn key_client(&self) -> Option<&str> {
        self.key_client.as_deref()
    }

    /// What a predicate has looked up for this request and [handed on](crate::Answered::with). Nothing where the rule was
    /// fulfilled without it.
    #[must_use]
    pub fn loaded<T: Send + Sync + 'static>(&self) -> Option<&T> {
        self.loaded.as_ref()?.get()
    }

    /// The kinds of credential that the request came with.
    #[must_use]
    pub const fn credentials(&self) -> Credentials {
        self.credentials
    }
}

impl<C> Clone for Caller<C> {
    fn clone(&self) -> Self {
        Self {
            checked: self.checked.clone(),
            key_client: self.key_client.clone(),
            loaded: self.loaded.clone(),
            ..*self
        }
    }
}
