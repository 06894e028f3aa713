//! What a request shows of its client.

use http::HeaderMap;
use http::header::AUTHORIZATION;
use vorsel_core::UncheckedToken;
use zeroize::Zeroizing;

use crate::endpoints::form::{Parameters, decoded};
use crate::endpoints::reply::Refused;

/// What a request shows of its client.
pub(super) enum Shown {
    /// Its name alone.
    Name(String),
    /// A secret ([RFC 6749 section 2.3.1](https://www.rfc-editor.org/rfc/rfc6749#section-2.3.1)).
    Secret { id: String, secret: Zeroizing<String>, by_header: bool },
    /// What it has signed ([RFC 7523 section 2.2](https://www.rfc-editor.org/rfc/rfc7523#section-2.2)), and who it says it is.
    Assertion { id: String, token: String },
}

impl Shown {
    pub(super) fn id(&self) -> &str {
        match self {
            Self::Name(id) | Self::Secret { id, .. } | Self::Assertion { id, .. } => id,
        }
    }

    pub(super) const fn by_header(&self) -> bool {
        matches!(self, Self::Secret { by_header: true, .. })
    }
}

/// The one type of assertion that there is.
const ASSERTION_TYPE: &str = "urn:ietf:params:oauth:client-assertion-type:jwt-bearer";

pub(super) fn shown(headers: &HeaderMap, form: &Parameters) -> Result<Shown, Refused> {
    let named = form.get("client_id");
    let (secret, assertion, kind) =
        (form.get("client_secret"), form.get("client_assertion"), form.get("client_assertion_type"));
    let header = headers.contains_key(AUTHORIZATION);
    let is_assertion = assertion.is_some() || kind.is_some();
    if usize::from(header) + usize::from(secret.is_some()) + usize::from(is_assertion) > 1 {
        return Err(Refused::request("expected one way to authenticate a client, but found several"));
    }
    if header {
        let (id, secret) = basic(headers).map_err(|reason| Refused::client(reason, true))?;
        if named.is_some_and(|named| named != id) {
            return Err(Refused::client(
                "expected one client, but found one in the header and another in the form",
                true,
            ));
        }
        return Ok(Shown::Secret { id, secret, by_header: true });
    }
    if is_assertion {
        if kind != Some(ASSERTION_TYPE) {
            return Err(Refused::request(format!("expected {ASSERTION_TYPE} as the client_assertion_type")));
        }
        let token = form.required("client_assertion")?;
        return match (UncheckedToken::subject_named(token), named) {
            (Some(id), None) => Ok(Shown::Assertion { id, token: token.to_owned() }),
            (Some(id), Some(named)) if id == named => Ok(Shown::Assertion { id, token: token.to_owned() }),
            (None, _) => Err(Refused::client("expected an assertion with a subject, but found none", false)),
            _ => Err(Refused::client(
                "expected one client, but found one in the assertion and another in the form",
                false,
            )),
        };
    }
    let id = form.required("client_id")?.to_owned();
    Ok(match secret {
        Some(secret) => Shown::Secret { id, secret: Zeroizing::new(secret.to_owned()), by_header: false },
        None => Shown::Name(id),
    })
}

/// Name and secret from the header, each encoded like a form's value
/// ([RFC 6749 section 2.3.1](https://www.rfc-editor.org/rfc/rfc6749#section-2.3.1)).
fn basic(headers: &HeaderMap) -> Result<(String, Zeroizing<String>), &'static str> {
    let mut values = headers.get_all(AUTHORIZATION).iter();
    let (Some(value), None) = (values.next(), values.next()) else {
        return Err("expected one Authorization header, but found several");
    };
    let (scheme, rest) = value.to_str().ok().and_then(|value| value.split_once(' ')).unwrap_or_default();
    if !scheme.eq_ignore_ascii_case("basic") {
        return Err("expected the scheme Basic in the Authorization header, but found another");
    }
    let unread = "expected a name and a secret in base64 after Basic, but found something else";
    let bytes = base64_simd::STANDARD.decode_to_vec(rest.trim_matches(' ')).map_err(|_| unread)?;
    let text = Zeroizing::new(String::from_utf8(bytes).map_err(|_| unread)?);
    let (id, secret) = text.split_once(':').ok_or(unread)?;
    Ok((decoded(id).ok_or(unread)?, Zeroizing::new(decoded(secret).ok_or(unread)?)))
}
