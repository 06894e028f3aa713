//! Clients that sign who they are ([RFC 7523 section 3](https://www.rfc-editor.org/rfc/rfc7523#section-3)).

use std::time::Duration;

use aws_lc_rs::digest::{SHA256, digest};
use serde::Serialize;
use vorsel_core::{Expectations, Finding, KeySet, Verifier, base64url, with_causes};

use crate::endpoints::reply::Refused;
use crate::endpoints::state::Shared;
use crate::endpoints::which::Endpoint;

/// Until then its `jti` has to be remembered.
const LONGEST: Duration = Duration::from_secs(3_600);

/// Whether an assertion is of this client, for this issuer or endpoint, and comes for the first time here or at any other instance.
pub(super) async fn check<C: Serialize + Send + Sync + 'static>(
    shared: &Shared<C>,
    endpoint: Endpoint,
    client_id: &str,
    keys: &KeySet,
    token: &str,
) -> Result<(), Refused> {
    let access = shared.sessions.access_tokens();
    let now = access.now();
    let expectations = Expectations::plain(client_id)
        .audience(access.issuer())
        .audience(shared.address_of(endpoint))
        .audience(shared.address_of(Endpoint::Token));
    let expectations = ["sub", "jti"].into_iter().fold(expectations, Expectations::require);
    let refused = |finding: Box<Finding>| Refused::client(format!("the assertion: {finding}"), false);
    let checked = Verifier::new(keys.clone(), expectations).check(token, now).map_err(refused)?;
    let claims = checked.claims();
    let not = |reason: &str| Err(Refused::client(format!("the assertion: {reason}"), false));
    if claims.subject() != Some(client_id) {
        return not("expected the client as its subject, but found another (RFC 7523 section 3)");
    }
    let (Some(id), Some(expires_at)) = (claims.id(), claims.expires_at()) else { return not("no id, or no end") };
    if expires_at > now.after(LONGEST) {
        return not("expected it to expire within an hour, but found a later time");
    }
    let name = digest(&SHA256, format!("{client_id}\0{id}").as_bytes());
    let name = format!("assertion:{}", base64url::encode(name));
    let until = expires_at.after(Expectations::LARGEST_SKEW);
    match access.asked(access.store().take(&name, until)).await {
        Ok(true) => Ok(()),
        Ok(false) => not("expected one that was not used before, but found its jti again"),
        Err(error) => Err(Refused::unavailable(Some(format!("the assertion's jti: {}", with_causes(&error))))),
    }
}
