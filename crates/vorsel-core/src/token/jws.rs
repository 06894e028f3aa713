//! JWS compact serialization, read strictly ([RFC 7515 section 7.1](https://www.rfc-editor.org/rfc/rfc7515#section-7.1)).
//!
//! Only one signature in compact form is read; the JSON serialization, unencoded payloads and encryption are not.

use std::borrow::Cow;
use std::cell::Cell;
use std::fmt;

use serde::de::{DeserializeSeed, Error as _, MapAccess, Visitor};
use serde_json::Value;
use serde_json::value::RawValue;

use super::kind::Kind;
use crate::encoding::base64url::{self, Base64Error};
use crate::encoding::json::{self, Members, Names, Skip, Strict, Text, Typed};
use crate::finding::{Detail, quoted};
use crate::key::{Signature, VerifyingKey};

/// The largest token that is issued and looked at if nothing else is set, in bytes.
pub(crate) const SIZE_LIMIT: usize = 16 * 1024;

/// A token taken apart, payload and signature decoded, nothing in it checked.
pub(crate) struct Compact<'a> {
    /// The bytes that were signed: header and payload as they came, with the dot between them.
    pub(crate) signing_input: &'a [u8],
    token: &'a [u8],
    header: &'a [u8],
    pub(crate) payload: Vec<u8>,
    pub(crate) signature: Signature,
}

const THREE_SEGMENTS: &str = "three base64url segments with a dot between them";

impl<'a> Compact<'a> {
    /// Takes `token` apart, if it has at most `limit` bytes.
    pub(crate) fn read(token: &'a [u8], limit: usize) -> Result<Self, Detail> {
        if token.len() > limit {
            return Err(Detail::new(format!("at most {limit} bytes"), format!("{} bytes", token.len())));
        }
        Self::segments(token).map_err(|detail| usual_mistake(token).unwrap_or(detail))
    }

    /// The header's segment as it came.
    pub(crate) const fn header_segment(&self) -> &[u8] {
        self.header
    }

    /// Decodes the header's segment.
    pub(crate) fn header(&self) -> Result<Vec<u8>, Detail> {
        segment("header", self.header).map_err(|detail| usual_mistake(self.token).unwrap_or(detail))
    }

    fn segments(token: &'a [u8]) -> Result<Self, Detail> {
        let (header, rest) = split_at_dot(token).ok_or_else(|| not_three_segments(token))?;
        let (payload, signature) = split_at_dot(rest).ok_or_else(|| not_three_segments(token))?;
        if memchr::memchr(b'.', signature).is_some() {
            return Err(not_three_segments(token));
        }
        Ok(Self {
            signing_input: &token[..header.len() + 1 + payload.len()],
            token,
            header,
            payload: segment("payload", payload)?,
            signature: signature_of(signature)?,
        })
    }
}

fn split_at_dot(bytes: &[u8]) -> Option<(&[u8], &[u8])> {
    let dot = memchr::memchr(b'.', bytes)?;
    Some((&bytes[..dot], &bytes[dot + 1..]))
}

fn signature_of(text: &[u8]) -> Result<Signature, Detail> {
    let mut signature = Signature::from_elem(0, text.len() / 4 * 3 + 2);
    let length =
        base64url::decode_into(text, &mut signature).map_err(|error| no_base64url("signature", text, error))?;
    signature.truncate(length);
    Ok(signature)
}

fn segment(name: &str, text: &[u8]) -> Result<Vec<u8>, Detail> {
    base64url::decode(text).map_err(|error| no_base64url(name, text, error))
}

#[cold]
fn no_base64url(name: &str, text: &[u8], error: Base64Error) -> Detail {
    let expected = format!("a {name} in base64url without padding and without loose trailing bits");
    let odd = text.iter().position(|byte| !byte.is_ascii_alphanumeric() && !b"-_".contains(byte));
    let found = match odd {
        Some(at) => format!("byte 0x{:02x} at position {at} of the {name}", text[at]),
        None => format!("{} characters that do not decode ({error})", text.len()),
    };
    Detail::new(expected, found)
}

fn not_three_segments(token: &[u8]) -> Detail {
    let dots = token.iter().filter(|byte| **byte == b'.').count();
    Detail::new(THREE_SEGMENTS, format!("{} of them", dots + 1))
}

/// The usual ways in which a token is copied wrongly, and what the text is instead.
#[cold]
fn usual_mistake(token: &[u8]) -> Option<Detail> {
    let (first, last) = (*token.first()?, *token.last()?);
    let found = if token.len() > 6 && token[..7].eq_ignore_ascii_case(b"bearer ") {
        "the scheme \"Bearer\" in front of the token"
    } else if first.is_ascii_whitespace() {
        "a space or line break in front of the token"
    } else if last.is_ascii_whitespace() {
        "a space or line break behind the token"
    } else if matches!(first, b'"' | b'\'') {
        "a quotation mark in front of the token"
    } else if first == b'{' {
        "JSON"
    } else if token.iter().filter(|byte| **byte == b'.').count() == 4 {
        "five segments, as an encrypted token has"
    } else {
        return None;
    };
    Some(Detail::new(THREE_SEGMENTS, found))
}

/// The JOSE header's members that this library reads. Keys and key addresses in a header are left unread: they are
/// the attacker's to write ([RFC 8725 section 3.10](https://www.rfc-editor.org/rfc/rfc8725#section-3.10)).
#[derive(Debug, Default, PartialEq)]
pub(crate) struct Header<'a> {
    pub(crate) alg: Cow<'a, str>,
    pub(crate) typ: Option<Cow<'a, str>>,
    pub(crate) kid: Option<Cow<'a, str>>,
    /// The extensions marked critical. None is understood here, so any entry refuses the token.
    pub(crate) crit: Vec<String>,
}

/// A header as an [`Issuer`](crate::Issuer) with this key writes it, onto bytes.
pub(super) fn write_header(key: &VerifyingKey, kind: Kind, bytes: &mut Vec<u8>) {
    let mut header = Members::begin(bytes, "alg", key.algorithm().name());
    header.text("typ", kind.typ());
    header.text("kid", key.key_id());
    header.end();
}

/// What [`write_header`] writes as a token's segment.
pub(crate) fn header_segment(key: &VerifyingKey, kind: Kind) -> String {
    let mut bytes = Vec::new();
    write_header(key, kind, &mut bytes);
    base64url::encode(bytes)
}

impl<'a> Header<'a> {
    /// The header that [`header_segment`] writes, known without reading it.
    pub(crate) fn known(key: &'a VerifyingKey, kind: Kind) -> Self {
        let borrowed = |text| Some(Cow::Borrowed(text));
        Self {
            alg: Cow::Borrowed(key.algorithm().name()),
            typ: borrowed(kind.typ()),
            kid: borrowed(key.key_id()),
            crit: Vec::new(),
        }
    }

    pub(crate) fn read(bytes: &'a [u8]) -> Result<Self, Detail> {
        json::read(bytes, HeaderVisitor).map_err(|error| {
            Detail::new("a header that is one strict JSON object with members of their types", error.found())
        })
    }
}

/// How many values a header may have in members that are left unread: a chain of certificates and a key are some twenty.
const MOST_VALUES: u32 = 64;
/// How long the list of critical extensions may be, in bytes. No extension is understood, so any will do to refuse the token.
const LONGEST_CRITICAL: usize = 1_024;

struct HeaderVisitor;

impl<'de> Visitor<'de> for HeaderVisitor {
    type Value = Header<'de>;

    fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("an object")
    }

    fn visit_map<A: MapAccess<'de>>(self, mut members: A) -> Result<Header<'de>, A::Error> {
        let (mut alg, mut typ, mut kid, mut crit) = (None, None, None, None);
        let (mut others, left) = (Names::default(), Cell::new(MOST_VALUES));
        while let Some(name) = members.next_key_seed(Text("a name"))? {
            let (slot, seed) = match &*name {
                "alg" => (&mut alg, Text("a string in \"alg\"")),
                "typ" => (&mut typ, Text("a string in \"typ\"")),
                "kid" => (&mut kid, Text("a string in \"kid\"")),
                "crit" => {
                    let text = members.next_value::<&RawValue>()?.get();
                    if text.len() > LONGEST_CRITICAL {
                        return Err(A::Error::custom(format_args!("{} bytes in \"crit\"", text.len())));
                    }
                    let names = Strict.deserialize(&mut serde_json::Deserializer::from_str(text));
                    if crit.replace(names.map_err(A::Error::custom)?).is_some() {
                        return Err(json::twice("crit"));
                    }
                    continue;
                }
                _ => {
                    if others.contains(&name) {
                        return Err(json::twice(&name));
                    }
                    members.next_value_seed(Skip(&left))?;
                    others.add(name);
                    continue;
                }
            };
            if slot.is_some() {
                return Err(json::twice(&name));
            }
            *slot = Some(members.next_value_seed(Typed(seed))?);
        }
        let alg = alg.ok_or_else(|| A::Error::custom("no member \"alg\""))?;
        let there = |name: &str| match name {
            "alg" | "crit" => true,
            "typ" => typ.is_some(),
            "kid" => kid.is_some(),
            other => others.contains(other),
        };
        let crit = crit.map_or(Ok(Vec::new()), |crit| critical(&crit, there)).map_err(A::Error::custom)?;
        Ok(Header { alg, typ, kid, crit })
    }
}

/// `crit` is a list of names, not empty, each of a member that is there
/// ([RFC 7515 section 4.1.11](https://www.rfc-editor.org/rfc/rfc7515#section-4.1.11)).
#[cold]
fn critical(crit: &Value, there: impl Fn(&str) -> bool) -> Result<Vec<String>, String> {
    let names = match crit {
        Value::Array(names) if !names.is_empty() => names,
        Value::Array(_) => return Err("an empty array in \"crit\"".to_owned()),
        other => return Err(format!("{} in \"crit\", expected an array", json::type_name(other))),
    };
    let name = |name: &Value| match name {
        Value::String(name) if there(name) => Ok(name.clone()),
        Value::String(name) => Err(format!("{} in \"crit\" and nowhere else", quoted(name))),
        other => Err(format!("{} in \"crit\", expected names", json::type_name(other))),
    };
    names.iter().map(name).collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::key::Algorithm;
    use crate::key::SigningKey;
    use proptest::prelude::*;

    fn found(token: &str) -> String {
        let read = Compact::read(token.as_bytes(), 100);
        read.and_then(|parts| parts.header()).map_or_else(|detail| detail.found, |_| "a token".to_owned())
    }

    #[test]
    fn what_is_not_a_token_is_named() {
        for (token, expected) in [
            ("e30.e30.", "a token"),
            ("..", "a token"),
            ("", "1 of them"),
            ("e30", "1 of them"),
            ("e30.e30", "2 of them"),
            ("e30.e30.AA.AA", "4 of them"),
            ("e30.e30.AA.AA.AA", "five segments, as an encrypted token has"),
            ("BEARER e30.e30", "the scheme \"Bearer\" in front of the token"),
            ("bearer e30.e30.AA", "the scheme \"Bearer\" in front of the token"),
            ("\"e30.e30.AA\"", "a quotation mark in front of the token"),
            ("e30.e 30.AA", "byte 0x20 at position 1 of the payload"),
            ("{\"payload\":\"\"}", "JSON"),
            ("e30.e30.AA\r", "a space or line break behind the token"),
            ("e30.e30=.AA", "byte 0x3d at position 3 of the payload"),
            (
                "e30.e30.AB",
                "2 characters that do not decode (expected base64url without padding and without loose trailing bits)",
            ),
        ] {
            assert_eq!(found(token), expected, "{token:?}");
        }
        assert_eq!(found(&"a".repeat(101)), "101 bytes");
    }

    #[test]
    fn header_members_must_have_their_types() {
        for (text, fine) in [
            (r#"{"alg":"ES256"}"#, true),
            (r#"{"alg":"ES256","typ":"at+jwt","kid":"a","jwk":{"k":"AA"},"zip":"DEF"}"#, true),
            (r#"{"alg":"ES256","crit":["b64"],"b64":false}"#, true),
            (r#"{"typ":"at+jwt"}"#, false),
            (r#"{"alg":null}"#, false),
            (r#"{"alg":["ES256"]}"#, false),
            (r#"{"alg":"ES256","kid":null}"#, false),
            (r#"{"alg":"ES256","kid":7}"#, false),
            (r#"{"alg":"ES256","typ":null}"#, false),
            (r#"{"alg":"ES256","crit":[]}"#, false),
            (r#"{"alg":"ES256","crit":"exp"}"#, false),
            (r#"{"alg":"ES256","crit":["exp"]}"#, false),
            (r#"{"alg":"ES256","crit":[1]}"#, false),
            (r#"{"alg":"ES256","alg":"ES256"}"#, false),
        ] {
            assert_eq!(Header::read(text.as_bytes()).is_ok(), fine, "{text}");
        }
    }

    /// The short cut and the long way must see the same header.
    #[test]
    fn a_known_header_is_what_reading_it_gives() {
        for algorithm in Algorithm::ALL {
            for kid in ["hill", "", "\"\\\n\u{1f52d}", "crit"] {
                let key = SigningKey::generate(algorithm).expect("a key").named(kid).verifying_key();
                for kind in [Kind::Access, Kind::Refresh, Kind::OnePurpose, Kind::SecurityEvent, Kind::Plain] {
                    let mut bytes = Vec::new();
                    write_header(&key, kind, &mut bytes);
                    assert_eq!(Header::read(&bytes).expect("a header"), Header::known(&key, kind));
                }
            }
        }
    }

    proptest! {
        #[test]
        fn reading_never_panics(bytes: Vec<u8>) {
            let _ = Compact::read(&bytes, 16_384).and_then(|parts| parts.header());
            let _ = Header::read(&bytes);
        }
    }
}
