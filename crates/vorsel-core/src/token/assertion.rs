//! A client's word for itself, signed ([RFC 7523 section 3](https://www.rfc-editor.org/rfc/rfc7523#section-3)).

use super::claims::NoOwn;
use super::issuer::{IssueError, Issuer};
use super::kind::Kind;
use super::written::{Audience, ClaimsToWrite};
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
        exp: Some(issued.after(Lifetime::minutes(1).as_duration()).as_secs()),
        sub: Some(client_id),
        ..ClaimsToWrite::of(client_id, Audience::One(audience), id, issued, NoOwn {})
    };
    Issuer::new(client_id, keys).write(Kind::Plain, &claims, now)?.sign()
}
