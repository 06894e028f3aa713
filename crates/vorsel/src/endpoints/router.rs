//! The endpoints as routes.

use std::sync::Arc;

use axum::routing::{MethodRouter, delete, get, post};
use serde::Serialize;

use super::address::EndpointsError;
use super::feed::feed;
use super::introspect::introspect;
use super::key_set::key_set;
use super::metadata::{metadata, resource_metadata};
use super::own_sessions;
use super::revoke::revoke;
use super::state::{Endpoints, Shared};
use super::ticket::ticket;
use super::token::token;
use super::which::Endpoint;
use crate::guard::Routes;

impl<C: Serialize + Send + Sync + 'static> Endpoints<C> {
    /// The method and the path of each route that is to be open in the access plan.
    ///
    /// # Errors
    /// Those of [`routes`](Self::routes).
    pub fn to_open(&self) -> Result<Vec<(&'static str, String)>, EndpointsError> {
        let shared = self.clone().shared()?;
        let found = table::<C>()
            .into_iter()
            .filter(|row| !row.endpoint.needs_caller())
            .filter_map(|Row { endpoint, method, .. }| Some((method, shared.path_of(endpoint)?.to_owned())));
        Ok(found.collect())
    }

    /// The routes to merge into the app's own. Each has to be [open](Self::to_open) in the access plan.
    ///
    /// # Errors
    /// If the issuer or the base is not https (or on this machine) or has a query or a fragment, if the base is on another host than
    /// the issuer, or if something that was asked for can't be offered.
    pub fn routes<S: Clone + Send + Sync + 'static>(self) -> Result<Routes<S>, EndpointsError> {
        let shared = Arc::new(self.shared()?);
        // Whoever hangs up after the last byte of a request has asked for it.
        let under_way = shared.sessions.access_tokens().under_way().clone();
        let mut routes = Routes::new();
        for Row { endpoint, handlers, changes, .. } in table() {
            let Some(path) = shared.path_of(endpoint) else { continue };
            if endpoint == Endpoint::OwnSessions {
                let one = format!("{path}/{{session}}");
                routes = routes.route(&one, delete(own_sessions::end::<C>)).carry_out(&one, &under_way);
            }
            routes = routes.route(path, handlers).stays_at(path);
            if changes {
                routes = routes.carry_out(path, &under_way);
            }
        }
        Ok(routes.with_state(shared))
    }
}

struct Row<C> {
    endpoint: Endpoint,
    method: &'static str,
    handlers: MethodRouter<Arc<Shared<C>>>,
    /// Whether it changes something.
    changes: bool,
}

fn table<C: Serialize + Send + Sync + 'static>() -> Vec<Row<C>> {
    let row = |endpoint, method, handlers, changes| Row { endpoint, method, handlers, changes };
    vec![
        row(Endpoint::Token, "POST", post(token::<C>), true),
        row(Endpoint::Revocation, "POST", post(revoke::<C>), true),
        row(Endpoint::Introspection, "POST", post(introspect::<C>), false),
        row(Endpoint::Feed, "POST", post(feed::<C>), false),
        row(Endpoint::KeySet, "GET", get(key_set::<C>), false),
        row(Endpoint::Metadata, "GET", get(metadata::<C>), false),
        row(Endpoint::ResourceMetadata, "GET", get(resource_metadata::<C>), false),
        row(Endpoint::OwnSessions, "GET", get(own_sessions::list::<C>).delete(own_sessions::end_others::<C>), true),
        row(Endpoint::Ticket, "POST", post(ticket::<C>), false),
        #[cfg(feature = "password")]
        row(Endpoint::SignIn, "POST", post(super::sign_in::sign_in::<C>), false),
    ]
}
