//! What the endpoints share.

use std::fmt;
use std::sync::Arc;

use serde::Serialize;

use crate::sessions::Sessions;

/// The endpoints of one issuer.
pub struct Endpoints<C> {
    pub(super) sessions: Arc<Sessions<C>>,
    pub(super) base: String,
    pub(super) prefix: String,
    clients: Vec<String>,
}

impl<C: Serialize + Send + Sync + 'static> Endpoints<C> {
    /// Endpoints for `sessions`, reached from outside under `base` (`https://id.skarnhill.test`).
    #[must_use]
    pub fn new(sessions: Arc<Sessions<C>>, base: &str) -> Self {
        let base = base.trim_end_matches('/').to_owned();
        Self { sessions, base, prefix: "/oauth".to_owned(), clients: Vec::new() }
    }

    /// The path under which they are mounted; `/oauth` if nothing is set.
    #[must_use]
    pub fn prefix(mut self, prefix: &str) -> Self {
        format!("/{}", prefix.trim_matches('/')).trim_end_matches('/').clone_into(&mut self.prefix);
        self
    }

    /// Adds a public client of this name. A request that names a client which is not known is refused.
    #[must_use]
    pub fn client(mut self, client_id: impl Into<String>) -> Self {
        self.clients.push(client_id.into());
        self
    }

    /// Whether a client of this name is known; a request may also leave its name out.
    pub(super) fn knows(&self, client_id: Option<&str>) -> bool {
        client_id.is_none_or(|client_id| self.clients.iter().any(|known| known == client_id))
    }
}

impl<C> fmt::Debug for Endpoints<C> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("Endpoints").field("base", &self.base).field("prefix", &self.prefix).finish_non_exhaustive()
    }
}
