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
    /// Endpoints for `sessions`, reached from outside under `base` (`https://id.skarnhill.test`) and `prefix`
    /// (`/oauth`), for the public clients of these names.
    #[must_use]
    pub fn new(sessions: Arc<Sessions<C>>, base: &str, prefix: &str, clients: &[&str]) -> Self {
        Self {
            sessions,
            base: base.trim_end_matches('/').to_owned(),
            prefix: format!("/{}", prefix.trim_matches('/')).trim_end_matches('/').to_owned(),
            clients: clients.iter().map(|client| (*client).to_owned()).collect(),
        }
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
