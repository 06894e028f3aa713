//! The claims of a token: the registered ones by type, the app's own as JSON and as the app's type.

use serde_json::Value;

use crate::finding::Detail;
use crate::json::{self, Object};
use crate::scope::Scopes;
use crate::time::Timestamp;

/// The claims of a token whose expectations all held, as far as the holder of this type is concerned: outside this
/// crate it is only reached through [`Checked`].
#[derive(Clone, Debug, PartialEq)]
pub struct Claims {
    pub(crate) issuer: Option<String>,
    pub(crate) subject: Option<String>,
    pub(crate) audience: Option<Vec<String>>,
    pub(crate) expires_at: Option<Timestamp>,
    pub(crate) not_before: Option<Timestamp>,
    pub(crate) issued_at: Option<Timestamp>,
    pub(crate) id: Option<String>,
    pub(crate) client_id: Option<String>,
    pub(crate) scopes: Scopes,
    pub(crate) roles: Vec<String>,
    pub(crate) session_id: Option<String>,
    pub(crate) authenticated_at: Option<Timestamp>,
    pub(crate) acr: Option<String>,
    pub(crate) confirmation: Option<Object>,
    pub(crate) own: Object,
}

/// The names that are not the app's to use for its own claims.
pub(crate) const REGISTERED: [&str; 14] =
    ["iss", "sub", "aud", "exp", "nbf", "iat", "jti", "client_id", "scope", "roles", "sid", "auth_time", "acr", "cnf"];

impl Claims {
    /// Reads a payload. A member that is there must have its type; `null` is not absent.
    pub(crate) fn read(payload: &[u8]) -> Result<Self, Detail> {
        let members = json::object(payload)
            .map_err(|error| Detail::new("claims that are one strict JSON object", error.to_string()))?;
        let mut claims = Self::none();
        for (name, value) in members {
            claims.take(name, value)?;
        }
        Ok(claims)
    }

    /// No claim at all. Not `Default`, which would let anybody make claims that nobody checked.
    fn none() -> Self {
        Self {
            issuer: None,
            subject: None,
            audience: None,
            expires_at: None,
            not_before: None,
            issued_at: None,
            id: None,
            client_id: None,
            scopes: Scopes::default(),
            roles: Vec::new(),
            session_id: None,
            authenticated_at: None,
            acr: None,
            confirmation: None,
            own: Object::new(),
        }
    }

    fn take(&mut self, name: String, value: Value) -> Result<(), Detail> {
        match name.as_str() {
            "iss" => self.issuer = Some(text(&name, value)?),
            "sub" => self.subject = Some(text(&name, value)?),
            "aud" => self.audience = Some(audience(value)?),
            "exp" => self.expires_at = Some(date(&name, &value)?),
            "nbf" => self.not_before = Some(date(&name, &value)?),
            "iat" => self.issued_at = Some(date(&name, &value)?),
            "jti" => self.id = Some(text(&name, value)?),
            "client_id" => self.client_id = Some(text(&name, value)?),
            "scope" => {
                self.scopes = Scopes::parse(&text(&name, value)?)
                    .map_err(|error| Detail::new("scopes with one space between them in \"scope\"", error.found))?;
            }
            "roles" => self.roles = texts(&name, value)?,
            "sid" => self.session_id = Some(text(&name, value)?),
            "auth_time" => self.authenticated_at = Some(date(&name, &value)?),
            "acr" => self.acr = Some(text(&name, value)?),
            "cnf" => self.confirmation = Some(object(&name, value)?),
            _ => {
                self.own.insert(name, value);
            }
        }
        Ok(())
    }

    /// Whether the claim of that name is there, registered or not.
    pub(crate) fn has(&self, name: &str) -> bool {
        match name {
            "iss" => self.issuer.is_some(),
            "sub" => self.subject.is_some(),
            "aud" => self.audience.is_some(),
            "exp" => self.expires_at.is_some(),
            "nbf" => self.not_before.is_some(),
            "iat" => self.issued_at.is_some(),
            "jti" => self.id.is_some(),
            "client_id" => self.client_id.is_some(),
            "scope" => !self.scopes.is_empty(),
            "roles" => !self.roles.is_empty(),
            "sid" => self.session_id.is_some(),
            "auth_time" => self.authenticated_at.is_some(),
            "acr" => self.acr.is_some(),
            "cnf" => self.confirmation.is_some(),
            own => self.own.contains_key(own),
        }
    }

    /// The issuer, `iss`.
    #[must_use]
    pub fn issuer(&self) -> Option<&str> {
        self.issuer.as_deref()
    }

    /// The subject, `sub`.
    #[must_use]
    pub fn subject(&self) -> Option<&str> {
        self.subject.as_deref()
    }

    /// The audiences, `aud`.
    #[must_use]
    pub fn audience(&self) -> &[String] {
        self.audience.as_deref().unwrap_or_default()
    }

    /// The expiration time, `exp`.
    #[must_use]
    pub const fn expires_at(&self) -> Option<Timestamp> {
        self.expires_at
    }

    /// When the token was issued, `iat`.
    #[must_use]
    pub const fn issued_at(&self) -> Option<Timestamp> {
        self.issued_at
    }

    /// The JWT ID, `jti`.
    #[must_use]
    pub fn id(&self) -> Option<&str> {
        self.id.as_deref()
    }

    /// The client, `client_id`.
    #[must_use]
    pub fn client_id(&self) -> Option<&str> {
        self.client_id.as_deref()
    }

    /// The scopes, `scope`.
    #[must_use]
    pub const fn scopes(&self) -> &Scopes {
        &self.scopes
    }

    /// The roles, `roles`.
    #[must_use]
    pub fn roles(&self) -> &[String] {
        &self.roles
    }

    /// The session ID, `sid`.
    #[must_use]
    pub fn session_id(&self) -> Option<&str> {
        self.session_id.as_deref()
    }

    /// When the caller authenticated, `auth_time`.
    #[must_use]
    pub const fn authenticated_at(&self) -> Option<Timestamp> {
        self.authenticated_at
    }

    /// The claims that are not registered, as JSON.
    #[must_use]
    pub const fn own(&self) -> &Object {
        &self.own
    }
}

/// The app's own claims of an app that has none: whatever the token carries besides is left unread.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, serde::Serialize, serde::Deserialize)]
pub struct NoOwn {}

/// Claims that passed every expectation, with the app's own part as the app's type `C`.
///
/// Only [`Verifier`](crate::Verifier) makes one, so whoever holds it need not ask whether the token was checked.
#[derive(Clone, Debug, PartialEq)]
pub struct Checked<C = NoOwn> {
    claims: Claims,
    own: C,
}

impl<C> Checked<C> {
    pub(crate) const fn new(claims: Claims, own: C) -> Self {
        Self { claims, own }
    }

    /// The registered claims.
    #[must_use]
    pub const fn claims(&self) -> &Claims {
        &self.claims
    }

    /// The app's own claims.
    #[must_use]
    pub const fn own(&self) -> &C {
        &self.own
    }
}

fn text(name: &str, value: Value) -> Result<String, Detail> {
    match value {
        Value::String(text) => Ok(text),
        other => Err(wrong_type(name, "a string", &other)),
    }
}

fn texts(name: &str, value: Value) -> Result<Vec<String>, Detail> {
    match value {
        Value::Array(items) => items.into_iter().map(|item| text(name, item)).collect(),
        other => Err(wrong_type(name, "an array of strings", &other)),
    }
}

/// A string or an array of strings ([RFC 7519 section 4.1.3](https://www.rfc-editor.org/rfc/rfc7519#section-4.1.3)).
fn audience(value: Value) -> Result<Vec<String>, Detail> {
    match value {
        Value::String(one) => Ok(vec![one]),
        Value::Array(_) => texts("aud", value),
        other => Err(wrong_type("aud", "a string or an array of strings", &other)),
    }
}

fn date(name: &str, value: &Value) -> Result<Timestamp, Detail> {
    match value {
        Value::Number(number) => Ok(Timestamp::from_number(number)),
        other => Err(wrong_type(name, "a number of seconds", other)),
    }
}

fn object(name: &str, value: Value) -> Result<Object, Detail> {
    match value {
        Value::Object(object) => Ok(object),
        other => Err(wrong_type(name, "an object", &other)),
    }
}

fn wrong_type(name: &str, expected: &str, found: &Value) -> Detail {
    Detail::new(format!("{expected} in \"{name}\""), json::type_name(found))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn registered_members_must_have_their_types() {
        for (text, fine) in [
            (r#"{"aud":"a"}"#, true),
            (r#"{"aud":["a","b"]}"#, true),
            (r#"{"aud":[]}"#, true),
            (r#"{"aud":null}"#, false),
            (r#"{"aud":["a",1]}"#, false),
            (r#"{"aud":{"a":1}}"#, false),
            (r#"{"exp":1700000000.5}"#, true),
            (r#"{"exp":"1700000000"}"#, false),
            (r#"{"exp":null}"#, false),
            (r#"{"exp":true}"#, false),
            (r#"{"nbf":[1]}"#, false),
            (r#"{"iss":1}"#, false),
            (r#"{"sub":null}"#, false),
            (r#"{"jti":7}"#, false),
            (r#"{"scope":["a"]}"#, false),
            (r#"{"scope":"a  b"}"#, false),
            (r#"{"roles":"director"}"#, false),
            (r#"{"roles":[null]}"#, false),
            (r#"{"cnf":"x"}"#, false),
            (r#"{"anything":null}"#, true),
        ] {
            assert_eq!(Claims::read(text.as_bytes()).is_ok(), fine, "{text}");
        }
    }

    #[test]
    fn every_registered_name_is_kept_from_the_own_claims() {
        for name in REGISTERED {
            let value = match name {
                "exp" | "nbf" | "iat" | "auth_time" => "1",
                "roles" => "[\"observer\"]",
                "cnf" => "{}",
                _ => "\"x\"",
            };
            let claims = Claims::read(format!("{{\"{name}\":{value}}}").as_bytes()).expect("readable claims");
            assert!(claims.has(name) && claims.own.is_empty(), "{name}");
        }
    }
}
