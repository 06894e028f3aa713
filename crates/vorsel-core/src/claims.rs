//! The claims of a token: the registered ones by type, the app's own as JSON and as the app's type.

use std::borrow::Cow;
use std::fmt;

use compact_str::CompactString;
use serde::de::{DeserializeSeed, Deserializer, MapAccess, SeqAccess, Visitor};
use serde_json::Value;

use crate::finding::Detail;
use crate::json::{self, Object, ObjectVisitor, Text};
use crate::own::OwnClaims;
use crate::scope::Scopes;
use crate::time::Timestamp;

/// The claims of a token whose expectations all held, as far as the holder of this type is concerned: outside this
/// crate it is only reached through [`Checked`].
#[derive(Clone, Debug, PartialEq)]
pub struct Claims {
    pub(crate) issuer: Option<String>,
    pub(crate) subject: Option<CompactString>,
    pub(crate) audience: Option<Vec<String>>,
    pub(crate) expires_at: Option<Timestamp>,
    pub(crate) not_before: Option<Timestamp>,
    pub(crate) issued_at: Option<Timestamp>,
    pub(crate) id: Option<CompactString>,
    pub(crate) client_id: Option<CompactString>,
    pub(crate) scopes: Option<Scopes>,
    pub(crate) roles: Option<Vec<String>>,
    pub(crate) session_id: Option<CompactString>,
    pub(crate) authenticated_at: Option<Timestamp>,
    pub(crate) acr: Option<String>,
    pub(crate) confirmation: Option<Object>,
    pub(crate) own: OwnClaims,
}

/// The names that are not the app's to use for its own claims.
pub(crate) const REGISTERED: [&str; 14] =
    ["iss", "sub", "aud", "exp", "nbf", "iat", "jti", "client_id", "scope", "roles", "sid", "auth_time", "acr", "cnf"];

impl Claims {
    /// Reads a payload. A member that is there must have its type; `null` is not absent.
    pub(crate) fn read(payload: &[u8]) -> Result<Self, Detail> {
        json::read(payload, ClaimsVisitor).map_err(|error| {
            Detail::new("claims that are one strict JSON object with members of their types", error.to_string())
        })
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
            scopes: None,
            roles: None,
            session_id: None,
            authenticated_at: None,
            acr: None,
            confirmation: None,
            own: OwnClaims::new(),
        }
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
            "scope" => self.scopes.is_some(),
            "roles" => self.roles.is_some(),
            "sid" => self.session_id.is_some(),
            "auth_time" => self.authenticated_at.is_some(),
            "acr" => self.acr.is_some(),
            "cnf" => self.confirmation.is_some(),
            own => self.own.get(own).is_some(),
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
    pub fn scopes(&self) -> &Scopes {
        static NONE: Scopes = Scopes::none();
        self.scopes.as_ref().unwrap_or(&NONE)
    }

    /// The roles, `roles`.
    #[must_use]
    pub fn roles(&self) -> &[String] {
        self.roles.as_deref().unwrap_or_default()
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

    /// A claim of the app's own, as JSON.
    #[must_use]
    pub fn own(&self, name: &str) -> Option<&Value> {
        self.own.get(name)
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

struct ClaimsVisitor;

impl<'de> Visitor<'de> for ClaimsVisitor {
    type Value = Claims;

    fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("an object")
    }

    fn visit_map<A: MapAccess<'de>>(self, mut members: A) -> Result<Claims, A::Error> {
        let mut claims = Claims::none();
        while let Some(name) = members.next_key_seed(Text("a name"))? {
            let text = |expected| Owned(Text(expected));
            let short = |expected| Short(Text(expected));
            match &*name {
                "iss" => fill(&mut claims.issuer, &name, &mut members, text("a string in \"iss\""))?,
                "sub" => fill(&mut claims.subject, &name, &mut members, short("a string in \"sub\""))?,
                "aud" => fill(&mut claims.audience, &name, &mut members, Audience)?,
                "exp" => fill(&mut claims.expires_at, &name, &mut members, Date("a number of seconds in \"exp\""))?,
                "nbf" => fill(&mut claims.not_before, &name, &mut members, Date("a number of seconds in \"nbf\""))?,
                "iat" => fill(&mut claims.issued_at, &name, &mut members, Date("a number of seconds in \"iat\""))?,
                "jti" => fill(&mut claims.id, &name, &mut members, short("a string in \"jti\""))?,
                "client_id" => fill(&mut claims.client_id, &name, &mut members, short("a string in \"client_id\""))?,
                "scope" => fill(&mut claims.scopes, &name, &mut members, ScopeList)?,
                "roles" => fill(&mut claims.roles, &name, &mut members, Texts("an array of strings in \"roles\""))?,
                "sid" => fill(&mut claims.session_id, &name, &mut members, short("a string in \"sid\""))?,
                "auth_time" => {
                    let seconds = Date("a number of seconds in \"auth_time\"");
                    fill(&mut claims.authenticated_at, &name, &mut members, seconds)?;
                }
                "acr" => fill(&mut claims.acr, &name, &mut members, text("a string in \"acr\""))?,
                "cnf" => fill(&mut claims.confirmation, &name, &mut members, Confirmation)?,
                _ => claims.own.read(&name, &mut members)?,
            }
        }
        claims.own.finished()?;
        Ok(claims)
    }
}

/// Reads a registered member into its slot, unless it is filled.
fn fill<'de, A: MapAccess<'de>, S: DeserializeSeed<'de>>(
    slot: &mut Option<S::Value>,
    name: &str,
    members: &mut A,
    seed: S,
) -> Result<(), A::Error> {
    if slot.is_some() {
        return Err(json::twice(name));
    }
    *slot = Some(members.next_value_seed(seed)?);
    Ok(())
}

/// A seed that is its own visitor and is shown any value, so that a wrong type is named.
macro_rules! seed {
    ($seed:ident, $value:ty, $expected:expr) => {
        impl<'de> DeserializeSeed<'de> for $seed {
            type Value = $value;

            fn deserialize<D: Deserializer<'de>>(self, reader: D) -> Result<$value, D::Error> {
                reader.deserialize_any(self)
            }
        }

        impl $seed {
            fn expected(&self) -> &'static str {
                let expected: fn(&Self) -> &'static str = $expected;
                expected(self)
            }
        }
    };
}

struct Owned(Text);

impl<'de> DeserializeSeed<'de> for Owned {
    type Value = String;

    fn deserialize<D: Deserializer<'de>>(self, reader: D) -> Result<String, D::Error> {
        self.0.deserialize(reader).map(Cow::into_owned)
    }
}

/// Ids and subjects, most of which are short enough to need no memory of their own.
struct Short(Text);

impl<'de> DeserializeSeed<'de> for Short {
    type Value = CompactString;

    fn deserialize<D: Deserializer<'de>>(self, reader: D) -> Result<CompactString, D::Error> {
        self.0.deserialize(reader).map(CompactString::from)
    }
}

/// A string or an array of strings ([RFC 7519 section 4.1.3](https://www.rfc-editor.org/rfc/rfc7519#section-4.1.3)).
struct Audience;
seed!(Audience, Vec<String>, |_| "a string or an array of strings in \"aud\"");

impl<'de> Visitor<'de> for Audience {
    type Value = Vec<String>;

    fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(self.expected())
    }

    fn visit_str<E>(self, one: &str) -> Result<Vec<String>, E> {
        Ok(vec![one.to_owned()])
    }

    fn visit_seq<A: SeqAccess<'de>>(self, items: A) -> Result<Vec<String>, A::Error> {
        Texts(self.expected()).visit_seq(items)
    }
}

struct Texts(&'static str);
seed!(Texts, Vec<String>, |texts| texts.0);

impl<'de> Visitor<'de> for Texts {
    type Value = Vec<String>;

    fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(self.expected())
    }

    fn visit_seq<A: SeqAccess<'de>>(self, mut items: A) -> Result<Vec<String>, A::Error> {
        let mut texts = Vec::new();
        while let Some(text) = items.next_element_seed(Owned(Text(self.0)))? {
            texts.push(text);
        }
        Ok(texts)
    }
}

struct Date(&'static str);
seed!(Date, Timestamp, |date| date.0);

impl Visitor<'_> for Date {
    type Value = Timestamp;

    fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(self.expected())
    }

    fn visit_i64<E>(self, seconds: i64) -> Result<Timestamp, E> {
        Ok(Timestamp::from_secs(seconds))
    }

    fn visit_u64<E>(self, seconds: u64) -> Result<Timestamp, E> {
        Ok(i64::try_from(seconds).map_or(Timestamp::MAX, Timestamp::from_secs))
    }

    fn visit_f64<E>(self, seconds: f64) -> Result<Timestamp, E> {
        Ok(Timestamp::from_secs_f64(seconds))
    }
}

struct ScopeList;
seed!(ScopeList, Scopes, |_| "scopes with one space between them in \"scope\"");

impl Visitor<'_> for ScopeList {
    type Value = Scopes;

    fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(self.expected())
    }

    fn visit_str<E: serde::de::Error>(self, text: &str) -> Result<Scopes, E> {
        Scopes::parse(text).map_err(E::custom)
    }
}

struct Confirmation;
seed!(Confirmation, Object, |_| "an object in \"cnf\"");

impl<'de> Visitor<'de> for Confirmation {
    type Value = Object;

    fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(self.expected())
    }

    fn visit_map<A: MapAccess<'de>>(self, members: A) -> Result<Object, A::Error> {
        ObjectVisitor.visit_map(members)
    }
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

    #[test]
    fn numeric_dates_keep_their_fraction_and_never_wrap() {
        for (text, micros) in [
            ("0", 0),
            ("1700000000", 1_700_000_000_000_000),
            ("1700000000.25", 1_700_000_000_250_000),
            ("-1.5", -1_500_000),
            ("1e300", i64::MAX),
            ("-1e300", i64::MIN),
            ("18446744073709551615", i64::MAX),
            ("9223372036854775807", i64::MAX),
        ] {
            let claims = Claims::read(format!("{{\"exp\":{text}}}").as_bytes()).expect("readable claims");
            assert_eq!(claims.expires_at.map(Timestamp::as_micros), Some(micros), "{text}");
        }
    }
}
