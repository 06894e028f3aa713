//! Reading a token's claims: one pass, each registered member into its slot.

use std::fmt;

use serde::Deserialize;
use serde::de::{DeserializeSeed, Deserializer, Error as _, MapAccess, SeqAccess, Visitor};
use serde_json::value::RawValue;
use smallvec::SmallVec;

use super::claims::{Claims, Excerpts};
use super::page::{Excerpt, Marker};
use super::reading::Reading;
use super::scope::{ScopeError, is_scope, is_scope_list};
use crate::encoding::json::{self, Object, ObjectVisitor, Text, Typed};
use crate::finding::Detail;
use crate::time::Timestamp;

/// Reads a payload whose roles and scopes are where `reading` says. A member that is there must have its type; `null` is not
/// absent.
pub(crate) fn read(payload: Vec<u8>, reading: &Reading) -> Result<Box<Claims>, Detail> {
    let wrong = |error: json::JsonError| {
        Detail::new("claims that are one strict JSON object with members of their types", error.found())
    };
    let payload = json::utf8(payload).map_err(wrong)?;
    let loose = reading.takes_either();
    let mut marker = Marker::over(&payload);
    // In a box: whoever hands them on would move all of them.
    let mut claims = Box::new(Claims::none());
    let read = json::read_str(&payload, ClaimsVisitor { claims: &mut claims, marker: &marker, by_text: false, loose });
    // Most tokens have no fractions. One that has is read again, in the slow way that no other crate can change.
    if read.is_err() || !claims.own.is_settled() {
        (marker, *claims) = (Marker::over(&payload), Claims::none());
        let again = ClaimsVisitor { claims: &mut claims, marker: &marker, by_text: true, loose };
        json::read_str(&payload, again).map_err(wrong)?;
    }
    claims.page = marker.finish(payload);
    claims.own.finished(&claims.page).map_err(wrong)?;
    reading.apply(&mut claims)?;
    Ok(claims)
}

/// Fills claims where they are, since moving them about takes longer than filling them.
struct ClaimsVisitor<'c> {
    claims: &'c mut Claims,
    marker: &'c Marker,
    /// Whether numbers are read by their text.
    by_text: bool,
    /// Whether scopes may be a list, and roles a text.
    loose: bool,
}

impl<'de> Visitor<'de> for ClaimsVisitor<'_> {
    type Value = ();

    fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("an object")
    }

    fn visit_map<A: MapAccess<'de>>(self, mut members: A) -> Result<(), A::Error> {
        let Self { claims, marker, by_text, loose } = self;
        let date = |expected| Moment(Date(expected), by_text);
        while let Some(name) = members.next_key_seed(Text("a name"))? {
            let mark = |expected| Marked(Text(expected), marker);
            let name_in = |expected| Name(Marked(Text(expected), marker));
            let (from, of) = (&mut members, &*name);
            match of {
                "iss" => fill(&mut claims.issuer, of, from, name_in("a string in \"iss\"")),
                "sub" => fill(&mut claims.subject, of, from, name_in("a string in \"sub\"")),
                "aud" => fill(&mut claims.audience, of, from, Typed(AudienceVisitor(marker))),
                "exp" => fill(&mut claims.expires_at, of, from, date("a number of seconds in \"exp\"")),
                "nbf" => fill(&mut claims.not_before, of, from, date("a number of seconds in \"nbf\"")),
                "iat" => fill(&mut claims.issued_at, of, from, date("a number of seconds in \"iat\"")),
                "jti" => fill(&mut claims.id, of, from, name_in("a string in \"jti\"")),
                "client_id" => fill(&mut claims.client_id, of, from, mark("a string in \"client_id\"")),
                "scope" if loose => fill(&mut claims.scopes, of, from, Typed(EitherScopes(marker))),
                "roles" if loose => fill(&mut claims.roles, of, from, Typed(EitherRoles(marker))),
                "scope" => fill(&mut claims.scopes, of, from, ScopeList(mark(SCOPES))),
                "roles" => fill(&mut claims.roles, of, from, Typed(Texts("an array of strings in \"roles\"", marker))),
                "sid" => fill(&mut claims.session_id, of, from, mark("a string in \"sid\"")),
                "auth_time" => {
                    fill(&mut claims.authenticated_at, of, from, date("a number of seconds in \"auth_time\""))
                }
                "session_at" => fill(&mut claims.session_at, of, from, date("a number of seconds in \"session_at\"")),
                "acr" => fill(&mut claims.acr, of, from, mark("a string in \"acr\"")),
                "cnf" => fill(&mut claims.confirmation, of, from, Typed(Confirmation)),
                _ => claims.own.read(marker.mark(&name), from, by_text),
            }?;
        }
        Ok(())
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

/// A string, left where it is.
struct Marked<'m>(Text, &'m Marker);

impl<'de> DeserializeSeed<'de> for Marked<'_> {
    type Value = Excerpt;

    fn deserialize<D: Deserializer<'de>>(self, reader: D) -> Result<Excerpt, D::Error> {
        self.0.deserialize(reader).map(|text| self.1.mark(&text))
    }
}

/// A string that names somebody or something: an empty one would name everybody who forgot to say who.
struct Name<'m>(Marked<'m>);

impl<'de> DeserializeSeed<'de> for Name<'_> {
    type Value = Excerpt;

    fn deserialize<D: Deserializer<'de>>(self, reader: D) -> Result<Excerpt, D::Error> {
        let Marked(text, marker) = self.0;
        let expected = text.0;
        let text = text.deserialize(reader)?;
        if text.is_empty() { Err(empty(expected)) } else { Ok(marker.mark(&text)) }
    }
}

#[cold]
fn empty<E: serde::de::Error>(expected: &str) -> E {
    E::custom(format_args!("an empty string, expected {expected} that is not empty"))
}

/// A string or an array of strings ([RFC 7519 section 4.1.3](https://www.rfc-editor.org/rfc/rfc7519#section-4.1.3)).
struct AudienceVisitor<'m>(&'m Marker);

const AUDIENCE: &str = "a string or an array of strings in \"aud\"";

impl<'de> Visitor<'de> for AudienceVisitor<'_> {
    type Value = Excerpts;

    fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(AUDIENCE)
    }

    fn visit_str<E: serde::de::Error>(self, one: &str) -> Result<Excerpts, E> {
        if one.is_empty() { Err(empty(AUDIENCE)) } else { Ok(SmallVec::from_slice(&[self.0.mark(one)])) }
    }

    fn visit_seq<A: SeqAccess<'de>>(self, mut items: A) -> Result<Excerpts, A::Error> {
        let mut texts = Excerpts::new();
        while let Some(text) = items.next_element_seed(Name(Marked(Text(AUDIENCE), self.0)))? {
            texts.push(text);
        }
        Ok(texts)
    }
}

struct Texts<'m>(&'static str, &'m Marker);

impl<'de> Visitor<'de> for Texts<'_> {
    type Value = Excerpts;

    fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(self.0)
    }

    fn visit_seq<A: SeqAccess<'de>>(self, mut items: A) -> Result<Excerpts, A::Error> {
        let mut texts = Excerpts::new();
        while let Some(text) = items.next_element_seed(Marked(Text(self.0), self.1))? {
            texts.push(text);
        }
        Ok(texts)
    }
}

/// A date, by its text if so wished.
struct Moment(Date, bool);

impl<'de> DeserializeSeed<'de> for Moment {
    type Value = Timestamp;

    fn deserialize<D: Deserializer<'de>>(self, reader: D) -> Result<Timestamp, D::Error> {
        let Self(date, by_text) = self;
        if !by_text {
            return reader.deserialize_i64(date);
        }
        let text = <&RawValue>::deserialize(reader)?.get();
        json::exact(text).and_then(|value| value.deserialize_any(date)).map_err(D::Error::custom)
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

const SCOPES: &str = "scopes with one space between them in \"scope\"";

struct ScopeList<'m>(Marked<'m>);

impl<'de> DeserializeSeed<'de> for ScopeList<'_> {
    type Value = Excerpt;

    fn deserialize<D: Deserializer<'de>>(self, reader: D) -> Result<Excerpt, D::Error> {
        let Marked(text, marker) = self.0;
        let text = text.deserialize(reader)?;
        if is_scope_list(&text) { Ok(marker.mark(&text)) } else { Err(D::Error::custom(ScopeError::of(&text))) }
    }
}

/// Scopes in a text or in a list.
struct EitherScopes<'m>(&'m Marker);

impl<'de> Visitor<'de> for EitherScopes<'_> {
    type Value = Excerpt;

    fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("a string or an array of strings in \"scope\"")
    }

    fn visit_str<E: serde::de::Error>(self, text: &str) -> Result<Excerpt, E> {
        if is_scope_list(text) { Ok(self.0.mark(text)) } else { Err(E::custom(ScopeError::of(text))) }
    }

    fn visit_seq<A: SeqAccess<'de>>(self, mut items: A) -> Result<Excerpt, A::Error> {
        let mut joined = String::new();
        while let Some(scope) = items.next_element_seed(Text("a scope in \"scope\""))? {
            // One with a space in it would become two.
            if !is_scope(&scope) {
                return Err(A::Error::custom(ScopeError::of(&scope)));
            }
            if !joined.is_empty() {
                joined.push(' ');
            }
            joined.push_str(&scope);
        }
        Ok(self.0.mark(&joined))
    }
}

/// Roles in a list or, with spaces between them, in a text.
struct EitherRoles<'m>(&'m Marker);

impl<'de> Visitor<'de> for EitherRoles<'_> {
    type Value = Excerpts;

    fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("a string or an array of strings in \"roles\"")
    }

    fn visit_str<E>(self, text: &str) -> Result<Excerpts, E> {
        Ok(text.split(' ').filter(|role| !role.is_empty()).map(|role| self.0.mark(role)).collect())
    }

    fn visit_seq<A: SeqAccess<'de>>(self, items: A) -> Result<Excerpts, A::Error> {
        Texts("an array of strings in \"roles\"", self.0).visit_seq(items)
    }
}

struct Confirmation;

impl<'de> Visitor<'de> for Confirmation {
    type Value = Box<Object>;

    fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("an object in \"cnf\"")
    }

    fn visit_map<A: MapAccess<'de>>(self, members: A) -> Result<Box<Object>, A::Error> {
        ObjectVisitor.visit_map(members).map(Box::new)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::token::REGISTERED;

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
            (r#"{"iss":""}"#, false),
            (r#"{"sub":""}"#, false),
            (r#"{"jti":""}"#, false),
            (r#"{"aud":""}"#, false),
            (r#"{"aud":["a",""]}"#, false),
            (r#"{"sub":null}"#, false),
            (r#"{"jti":7}"#, false),
            (r#"{"scope":["a"]}"#, false),
            (r#"{"scope":"a  b"}"#, false),
            (r#"{"roles":"director"}"#, false),
            (r#"{"roles":[null]}"#, false),
            (r#"{"cnf":"x"}"#, false),
            (r#"{"anything":null}"#, true),
        ] {
            assert_eq!(read(text.into(), &Reading::default()).is_ok(), fine, "{text}");
        }
    }

    #[test]
    fn every_registered_name_is_kept_from_the_own_claims() {
        for name in REGISTERED {
            let value = match name {
                "exp" | "nbf" | "iat" | "auth_time" | "session_at" => "1",
                "roles" => "[\"observer\"]",
                "cnf" => "{}",
                _ => "\"x\"",
            };
            let claims =
                read(format!("{{\"{name}\":{value}}}").into_bytes(), &Reading::default()).expect("readable claims");
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
            let claims =
                read(format!("{{\"exp\":{text}}}").into_bytes(), &Reading::default()).expect("readable claims");
            assert_eq!(claims.expires_at.map(Timestamp::as_micros), Some(micros), "{text}");
        }
    }
}
