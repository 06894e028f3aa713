//! Who the client is: asked here for every endpoint ([RFC 6749 section 2.3](https://www.rfc-editor.org/rfc/rfc6749#section-2.3)).

mod assertion;
mod shown;

use std::sync::Arc;

use http::HeaderMap;
use serde::Serialize;

use super::form::Parameters;
use super::reply::Refused;
use super::state::Shared;
use super::which::Endpoint;
use crate::clients::{Client, ClientProof, ClientSecretHash, Clients};
use shown::{Shown, shown};

/// A client that is who it says, or a public one, of which nobody can tell.
pub(super) struct Authenticated {
    /// Its name.
    pub(super) id: String,
    /// What it may, where clients are registered.
    pub(super) registered: Option<Arc<Client>>,
}

/// The client that has sent a form. What it shows is never overlooked, and more than one thing is refused.
pub(super) async fn client_of<C: Serialize + Send + Sync + 'static>(
    shared: &Shared<C>,
    endpoint: Endpoint,
    headers: &HeaderMap,
    form: &Parameters,
) -> Result<Authenticated, Refused> {
    let shown = shown(headers, form)?;
    let Some(clients) = shared.sessions.clients() else {
        return match shown {
            Shown::Name(id) => Ok(Authenticated { id, registered: None }),
            other => Err(Refused::client("no clients are registered, so none can show anything", other.by_header())),
        };
    };
    let by_header = shown.by_header();
    let client = find(clients, shown.id(), by_header).await?;
    let is_right = match (&shown, client.proof()) {
        (Shown::Name(_), ClientProof::None) => Ok(()),
        (Shown::Name(_), _) => Err("expected its credentials, but found its name alone".to_owned()),
        (Shown::Secret { secret, .. }, ClientProof::Secrets(hashes)) => {
            let hash = ClientSecretHash::of(secret);
            // Each is looked at, whichever it is.
            let right = hashes.iter().fold(false, |right, known| known.agrees_with(&hash) | right);
            right.then_some(()).ok_or_else(|| "expected a secret of the client's, but found another".to_owned())
        }
        (Shown::Assertion { token, .. }, ClientProof::Keys(keys)) => {
            return assertion::check(shared, endpoint, client.id(), keys, token)
                .await
                .map(|()| Authenticated { id: client.id().to_owned(), registered: Some(client.clone()) });
        }
        (_, ClientProof::None) => Err("expected nothing but the name of a public client".to_owned()),
        (_, ClientProof::Secrets(_)) => Err("expected a secret, but found an assertion".to_owned()),
        (_, ClientProof::Keys(_)) => Err("expected an assertion, but found a secret".to_owned()),
    };
    is_right.map_err(|reason| Refused::client(reason, by_header))?;
    Ok(Authenticated { id: client.id().to_owned(), registered: Some(client) })
}

async fn find(clients: &Clients, id: &str, by_header: bool) -> Result<Arc<Client>, Refused> {
    let found = clients.find(id).await.map_err(|error| Refused::unavailable(Some(format!("the client: {error}"))))?;
    found.ok_or_else(|| Refused::client("expected a registered client, but found another", by_header))
}
