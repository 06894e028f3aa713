//! A client's word for itself, signed ([RFC 7523 section 3](https://www.rfc-editor.org/rfc/rfc7523#section-3)).

use super::claims::NoOwn;
use super::issuer::{Audience, ClaimsToWrite, IssueError, Issuer};
use super::kind::Kind;
use crate::keyring::Keyring;
use crate::time::{Lifetime, Timestamp};

/// An assertion by which a client shows an issuer that it has a key, instead of a secret (`private_key_jwt`): once, by its `id`, and for
/// the minute that a request may take.
///
/// ```
/// use vorsel_core::{Algorithm, SigningKey, Timestamp, client_assertion};
///
/// let key = SigningKey::generate(Algorithm::EdDsa)?;
/// let assertion = client_assertion("archive", key, "https://id.skarnhill.test", "a-1", Timestamp::from_secs(1_800_000_000))?;
/// assert_eq!(assertion.split('.').count(), 3);
/// # Ok::<(), Box<dyn std::error::Error>>(())
/// ```
///
/// # Errors
/// If a name is empty, or no key signs now.
pub fn client_assertion(
    client_id: &str,
    keys: impl Into<Keyring>,
    audience: &str,
    id: &str,
    now: Timestamp,
) -> Result<String, IssueError> {
    let issued = now.whole_secs();
    let claims = ClaimsToWrite {
        iss: client_id,
        aud: Audience::One(audience),
        nbf: None,
        iat: issued.as_secs(),
        exp: issued.after(Lifetime::minutes(1).as_duration()).as_secs(),
        sub: client_id,
        client_id: None,
        jti: id,
        scope: "",
        roles: &[],
        sid: None,
        auth_time: None,
        session_at: None,
        acr: None,
        cnf: None,
        own: NoOwn {},
    };
    Issuer::new(client_id, keys).write(Kind::Plain, &claims, now)?.sign()
}
