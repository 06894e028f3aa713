//! Who is calling, in the handler.

use std::sync::Arc;

use vorsel_core::{Checked, Claims, NoOwn};

/// Who is calling: claims that were checked, the app's own part as `C`. Cloning is cheap.
#[derive(Debug)]
pub struct Caller<C = NoOwn>(Arc<Checked<C>>);

impl<C> Caller<C> {
    pub(crate) const fn new(checked: Arc<Checked<C>>) -> Self {
        Self(checked)
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
        self.0.own()
    }

    /// All registered claims.
    #[must_use]
    pub fn token_claims(&self) -> &Claims {
        self.0.claims()
    }
}

impl<C> Clone for Caller<C> {
    fn clone(&self) -> Self {
        Self(self.0.clone())
    }
}
