//! Who is calling, in the handler.

use std::sync::Arc;

use vorsel_core::{CallerFacts, Checked, Claims, Credential, Credentials, NoOwn};

/// Who is calling: claims that were checked, the app's own part as `C`. Cloning is cheap.
#[derive(Debug)]
pub struct Caller<C = NoOwn> {
    checked: Arc<Checked<C>>,
    credentials: Credentials,
}

impl<C> Caller<C> {
    pub(super) fn new(checked: Arc<Checked<C>>, kind: Credential) -> Self {
        Self { checked, credentials: kind.into() }
    }

    /// The same caller, known by one more credential.
    pub(super) fn and_by(self, kind: Credential) -> Self {
        Self { credentials: self.credentials.with(kind), ..self }
    }

    /// What the access plan decides by.
    pub(super) fn facts<'a>(&'a self, answers: &'a [(String, bool)]) -> CallerFacts<'a> {
        let mut facts = CallerFacts::from(&*self.checked);
        facts.credentials = self.credentials;
        facts.answers = answers;
        facts
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

    /// The kinds of credential that the request came with.
    #[must_use]
    pub const fn credentials(&self) -> Credentials {
        self.credentials
    }
}

impl<C> Clone for Caller<C> {
    fn clone(&self) -> Self {
        Self { checked: self.checked.clone(), credentials: self.credentials }
    }
}
