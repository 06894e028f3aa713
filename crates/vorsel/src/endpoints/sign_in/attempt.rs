//! What somebody sends to sign in.

use std::collections::BTreeMap;

use http::HeaderMap;
use http::header::AUTHORIZATION;
use zeroize::Zeroizing;

use crate::endpoints::form::{MOST, Parameters, has_media_type};
use crate::endpoints::reply::Refused;

/// A subject as typed, and its password; and whatever else was sent.
pub(super) struct Typed {
    pub(super) subject: String,
    pub(super) password: Zeroizing<String>,
    /// Without the password.
    pub(super) fields: BTreeMap<String, String>,
    /// Whether they stood in the header; then what a client shows can't.
    pub(super) by_header: bool,
}

impl Typed {
    /// Reads JSON, a form, or Basic with or without one of them ([RFC 7617](https://www.rfc-editor.org/rfc/rfc7617)).
    pub(super) fn read(headers: &HeaderMap, body: &[u8]) -> Result<Self, Refused> {
        let mut fields = if body.is_empty() { BTreeMap::new() } else { fields(headers, body)? };
        let shown = (fields.remove("subject"), fields.remove("password").map(Zeroizing::new));
        let by_header = headers.contains_key(AUTHORIZATION);
        let (subject, password) = match (basic(headers)?, shown) {
            (Some(shown), (None, None)) => shown,
            (Some(_), _) => return Err(Refused::request("expected subject and password once, but found them twice")),
            (None, (Some(subject), Some(password))) => (subject, password),
            (None, (None, _)) => return Err(Refused::request("expected the member subject")),
            (None, (_, None)) => return Err(Refused::request("expected the member password")),
        };
        Ok(Self { subject, password, fields, by_header })
    }

    /// What the request says, for whoever asks which client it is.
    pub(super) fn form(&self) -> Parameters {
        Parameters::of(self.fields.clone())
    }
}

fn fields(headers: &HeaderMap, body: &[u8]) -> Result<BTreeMap<String, String>, Refused> {
    if !has_media_type(headers, "application/json") {
        return Ok(Parameters::read(headers, body)?.into_fields());
    }
    let members: Members = serde_json::from_slice(body).map_err(|_| {
        Refused::request(format!(
            "expected a JSON object of texts, at most {MOST}, no member twice, such as {{\"subject\": …, \"password\": …}}"
        ))
    })?;
    Ok(members.0)
}

/// The members of an object, all of them texts, none twice, as many as a form may have.
struct Members(BTreeMap<String, String>);

impl<'de> serde::Deserialize<'de> for Members {
    fn deserialize<D: serde::Deserializer<'de>>(reader: D) -> Result<Self, D::Error> {
        struct Visitor;
        impl<'de> serde::de::Visitor<'de> for Visitor {
            type Value = Members;

            fn expecting(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
                f.write_str("an object of texts")
            }

            fn visit_map<A: serde::de::MapAccess<'de>>(self, mut members: A) -> Result<Members, A::Error> {
                let mut fields = BTreeMap::new();
                // Stops at the first that is too many or none, before the others have cost anything.
                while let Some((name, text)) = members.next_entry::<String, Option<String>>()? {
                    if fields.len() == MOST {
                        return Err(serde::de::Error::custom("too many members"));
                    }
                    // As in a form, what is empty is not there.
                    if fields.insert(name, text.unwrap_or_default()).is_some() {
                        return Err(serde::de::Error::custom("a member twice"));
                    }
                }
                fields.retain(|_, text| !text.is_empty());
                Ok(Members(fields))
            }
        }
        reader.deserialize_map(Visitor)
    }
}

fn basic(headers: &HeaderMap) -> Result<Option<(String, Zeroizing<String>)>, Refused> {
    let mut values = headers.get_all(AUTHORIZATION).iter();
    let Some(value) = values.next() else { return Ok(None) };
    let unread = || Refused::request("expected Basic with a subject and a password in the Authorization header");
    let (scheme, rest) = value.to_str().ok().and_then(|value| value.split_once(' ')).ok_or_else(unread)?;
    if values.next().is_some() || !scheme.eq_ignore_ascii_case("basic") {
        return Err(unread());
    }
    let bytes = base64_simd::STANDARD.decode_to_vec(rest.trim_matches(' ')).map_err(|_| unread())?;
    let text = Zeroizing::new(String::from_utf8(bytes).map_err(|_| unread())?);
    let (subject, password) = text.split_once(':').ok_or_else(unread)?;
    if subject.is_empty() || password.is_empty() {
        return Err(unread());
    }
    Ok(Some((subject.to_owned(), Zeroizing::new(password.to_owned()))))
}
