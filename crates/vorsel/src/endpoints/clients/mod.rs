//! Who the client is: asked here for every endpoint ([RFC 6749 section 2.3](https://www.rfc-editor.org/rfc/rfc6749#section-2.3)).

mod assertion;
mod shown;

use std::net::IpAddr;
use std::sync::Arc;

use http::HeaderMap;
use serde::Serialize;

use super::form::Parameters;
use super::reply::Refused;
use super::state::Shared;
use super::which::Endpoint;
use crate::clients::{Client, ClientProof, ClientSecretHash, Clients};
use crate::throttle::{Attempt, Who};
use shown::{Shown, shown};

/// A client that is who it says, or a public one, of which nobody can tell.
pub(super) struct Authenticated {
    /// Its name.
    pub(super) id: String,
    /// What it may, where clients are registered.
    pub(super) registered: Option<Arc<Client>>,
}

/// The client that has sent a form. What it shows is never overlooked, and more than one thing is refused. `named` becomes what it calls
/// itself.
pub(super) async fn client_of<C: Serialize + Send + Sync + 'static>(
    shared: &Shared<C>,
    endpoint: Endpoint,
    (headers, address): (&HeaderMap, Option<IpAddr>),
    form: &Parameters,
    named: &mut Option<String>,
) -> Result<Authenticated, Refused> {
    *named = form.get("client_id").map(str::to_owned);
    let shown = shown(headers, form)?;
    *named = Some(shown.id().to_owned());
    let Some(clients) = shared.sessions.clients() else {
        return match shown {
            Shown::Name(id) => Ok(Authenticated { id, registered: None }),
            other => Err(Refused::client("no clients are registered, so none can show anything", other.by_header())),
        };
    };
    let client = find(clients, shown.id(), shown.by_header()).await?;
    if let Shown::Name(id) = &shown {
        if !client.is_public() {
            return Err(Refused::client("expected its credentials, but found its name alone", false));
        }
        return Ok(Authenticated { id: id.clone(), registered: Some(client) });
    }
    let attempt = Attempt { address, who: Some(Who::Client(client.id())), mark: None };
    shared.admits(&attempt)?;
    proven(shared, endpoint, &client, &shown).await?;
    shared.got_in(&attempt);
    Ok(Authenticated { id: client.id().to_owned(), registered: Some(client) })
}

/// Whether what is shown is the client's.
async fn proven<C: Serialize + Send + Sync + 'static>(
    shared: &Shared<C>,
    endpoint: Endpoint,
    client: &Client,
    shown: &Shown,
) -> Result<(), Refused> {
    let reason = match (shown, client.proof()) {
        (Shown::Secret { secret, .. }, ClientProof::Secrets(hashes)) => {
            let hash = ClientSecretHash::of(secret);
            // Each is looked at, whichever it is.
            let right = hashes.iter().fold(false, |right, known| known.agrees_with(&hash) | right);
            if right {
                return Ok(());
            }
            "expected a secret of the client's, but found another"
        }
        (Shown::Assertion { token, .. }, ClientProof::Keys(keys)) => {
            return assertion::check(shared, endpoint, client.id(), keys, token).await;
        }
        (_, ClientProof::None) => "expected nothing but the name of a public client",
        (_, ClientProof::Secrets(_)) => "expected a secret, but found an assertion",
        (_, ClientProof::Keys(_)) => "expected an assertion, but found a secret",
    };
    Err(Refused::client(reason, shown.by_header()))
}

async fn find(clients: &Clients, id: &str, by_header: bool) -> Result<Arc<Client>, Refused> {
    let found = clients.find(id).await.map_err(|error| Refused::unavailable(Some(format!("the client: {error}"))))?;
    found.ok_or_else(|| Refused::client("expected a registered client, but found another", by_header))
}
