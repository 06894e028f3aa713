//! Reading a token's claims: one pass, each registered member into its slot.

use std::borrow::Cow;
use std::fmt;

use compact_str::CompactString;
use serde::de::{DeserializeSeed, Deserializer, MapAccess, SeqAccess, Visitor};

use crate::claims::Claims;
use crate::finding::Detail;
use crate::json::{self, Object, ObjectVisitor, Shown, Text};
use crate::scope::Scopes;
use crate::time::Timestamp;

/// Reads a payload. A member that is there must have its type; `null` is not absent.
pub(crate) fn read(payload: &[u8]) -> Result<Claims, Detail> {
    json::read(payload, ClaimsVisitor).map_err(|error| {
        Detail::new("claims that are one strict JSON object with members of their types", error.to_string())
    })
}

struct ClaimsVisitor;

impl<'de> Visitor<'de> for ClaimsVisitor {
    type Value = Claims;

    fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("an object")
    }

    fn visit_map<A: MapAccess<'de>>(self, mut members: A) -> Result<Claims, A::Error> {
        let mut claims = Claims::none();
        let (short, date) = (|expected| Short(Text(expected)), |expected| Shown(Date(expected)));
        while let Some(name) = members.next_key_seed(Shown(Text("a name")))? {
            let (name, from) = (&*name, &mut members);
            match name {
                "iss" => fill(&mut claims.issuer, name, from, Owned(Text("a string in \"iss\""))),
                "sub" => fill(&mut claims.subject, name, from, short("a string in \"sub\"")),
                "aud" => fill(&mut claims.audience, name, from, Shown(Audience)),
                "exp" => fill(&mut claims.expires_at, name, from, date("a number of seconds in \"exp\"")),
                "nbf" => fill(&mut claims.not_before, name, from, date("a number of seconds in \"nbf\"")),
                "iat" => fill(&mut claims.issued_at, name, from, date("a number of seconds in \"iat\"")),
                "jti" => fill(&mut claims.id, name, from, short("a string in \"jti\"")),
                "client_id" => fill(&mut claims.client_id, name, from, short("a string in \"client_id\"")),
                "scope" => fill(&mut claims.scopes, name, from, Shown(ScopeList)),
                "roles" => fill(&mut claims.roles, name, from, Shown(Texts("an array of strings in \"roles\""))),
                "sid" => fill(&mut claims.session_id, name, from, short("a string in \"sid\"")),
                "auth_time" => {
                    fill(&mut claims.authenticated_at, name, from, date("a number of seconds in \"auth_time\""))
                }
                "acr" => fill(&mut claims.acr, name, from, Owned(Text("a string in \"acr\""))),
                "cnf" => fill(&mut claims.confirmation, name, from, Shown(Confirmation)),
                _ => claims.own.read(name, from),
            }?;
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

struct Owned(Text);

impl<'de> DeserializeSeed<'de> for Owned {
    type Value = String;

    fn deserialize<D: Deserializer<'de>>(self, reader: D) -> Result<String, D::Error> {
        Shown(self.0).deserialize(reader).map(Cow::into_owned)
    }
}

/// Ids and subjects, most of which are short enough to need no memory of their own.
struct Short(Text);

impl<'de> DeserializeSeed<'de> for Short {
    type Value = CompactString;

    fn deserialize<D: Deserializer<'de>>(self, reader: D) -> Result<CompactString, D::Error> {
        Shown(self.0).deserialize(reader).map(CompactString::from)
    }
}

/// A string or an array of strings ([RFC 7519 section 4.1.3](https://www.rfc-editor.org/rfc/rfc7519#section-4.1.3)).
struct Audience;

const AUDIENCE: &str = "a string or an array of strings in \"aud\"";

impl<'de> Visitor<'de> for Audience {
    type Value = Vec<String>;

    fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(AUDIENCE)
    }

    fn visit_str<E>(self, one: &str) -> Result<Vec<String>, E> {
        Ok(vec![one.to_owned()])
    }

    fn visit_seq<A: SeqAccess<'de>>(self, items: A) -> Result<Vec<String>, A::Error> {
        Texts(AUDIENCE).visit_seq(items)
    }
}

struct Texts(&'static str);

impl<'de> Visitor<'de> for Texts {
    type Value = Vec<String>;

    fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(self.0)
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

impl Visitor<'_> for Date {
    type Value = Timestamp;

    fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(self.0)
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

impl Visitor<'_> for ScopeList {
    type Value = Scopes;

    fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("scopes with one space between them in \"scope\"")
    }

    fn visit_str<E: serde::de::Error>(self, text: &str) -> Result<Scopes, E> {
        Scopes::parse(text).map_err(E::custom)
    }
}

struct Confirmation;

impl<'de> Visitor<'de> for Confirmation {
    type Value = Object;

    fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("an object in \"cnf\"")
    }

    fn visit_map<A: MapAccess<'de>>(self, members: A) -> Result<Object, A::Error> {
        ObjectVisitor.visit_map(members)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::claims::REGISTERED;

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
            assert_eq!(read(text.as_bytes()).is_ok(), fine, "{text}");
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
            let claims = read(format!("{{\"{name}\":{value}}}").as_bytes()).expect("readable claims");
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
            let claims = read(format!("{{\"exp\":{text}}}").as_bytes()).expect("readable claims");
            assert_eq!(claims.expires_at.map(Timestamp::as_micros), Some(micros), "{text}");
        }
    }
}
