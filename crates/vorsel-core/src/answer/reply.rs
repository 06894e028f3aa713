//! What the client is told: status, challenges and problem body, as data.
//!
//! A [`Refusal`](super::Refusal) knows everything and is for the log. Its [`Answer`] says what the standards allow:
//! [RFC 6750 section 3](https://www.rfc-editor.org/rfc/rfc6750#section-3) for the challenge,
//! [RFC 9470 section 3](https://www.rfc-editor.org/rfc/rfc9470#section-3) where a fresh sign-in is all that is missing,
//! [RFC 9457](https://www.rfc-editor.org/rfc/rfc9457) for the body, and nothing that helps an attacker.

use std::fmt;

use serde_json::Value;

/// What the client is told.
///
/// ```
/// let answer = vorsel_core::Refusal::NoCredential.answer("api");
/// assert_eq!(answer.status, 401);
/// assert_eq!(answer.challenges[0].to_string(), r#"Bearer realm="api""#);
/// ```
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub struct Answer {
    /// The HTTP status: 204, 400, 401, 403, 404, 405 or 503.
    pub status: u16,
    /// What the `WWW-Authenticate` header asks for, one challenge for each scheme.
    pub challenges: Vec<Challenge>,
    /// The value of the `Allow` header, for 405 and for the options of a path.
    pub allow: Option<String>,
    /// The body, `application/problem+json`; nothing for 204.
    pub problem: Option<String>,
}

impl Answer {
    /// The same answer, its bearer challenges telling where the metadata of the API lies
    /// ([RFC 9728 section 5.1](https://www.rfc-editor.org/rfc/rfc9728#section-5.1)).
    #[must_use]
    pub fn with_resource_metadata(mut self, address: &str) -> Self {
        for challenge in self.challenges.iter_mut().filter(|challenge| challenge.scheme == "Bearer") {
            challenge.say("resource_metadata", address);
        }
        self
    }
}

/// One challenge ([RFC 9110 section 11.3](https://www.rfc-editor.org/rfc/rfc9110#section-11.3)); written out, it is the value of
/// a `WWW-Authenticate` header.
///
/// ```
/// let answer = vorsel_core::Refusal::NoCredential.answer("api");
/// let challenge = &answer.challenges[0];
/// assert_eq!((challenge.scheme, challenge.parameters[0].0), ("Bearer", "realm"));
/// ```
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub struct Challenge {
    /// The authentication scheme.
    pub scheme: &'static str,
    /// Its parameters in order, their values unquoted.
    pub parameters: Vec<(&'static str, String)>,
}

impl Challenge {
    pub(super) fn bearer(realm: &str) -> Self {
        Self { scheme: "Bearer", parameters: vec![("realm", realm.to_owned())] }
    }

    /// Adds a parameter, unless there is nothing to say.
    pub(super) fn say(&mut self, name: &'static str, value: &str) {
        if !value.is_empty() {
            self.parameters.push((name, value.to_owned()));
        }
    }
}

impl fmt::Display for Challenge {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(self.scheme)?;
        for (index, (name, value)) in self.parameters.iter().enumerate() {
            let comma = if index == 0 { "" } else { "," };
            write!(f, "{comma} {name}={}", quoted_string(value))?;
        }
        Ok(())
    }
}

/// The problem body: the type is `about:blank`, so the title is the status's own phrase
/// ([RFC 9457 section 4.2.1](https://www.rfc-editor.org/rfc/rfc9457#section-4.2.1)).
#[must_use]
pub fn problem(status: u16, detail: &str) -> String {
    let title = match status {
        400 => "Bad Request",
        401 => "Unauthorized",
        403 => "Forbidden",
        404 => "Not Found",
        405 => "Method Not Allowed",
        503 => "Service Unavailable",
        _ => "Internal Server Error",
    };
    let texts =
        [("type", "about:blank"), ("title", title), ("detail", detail)].map(|(name, text)| (name, Value::from(text)));
    let [kind, title, detail] = texts.map(|(name, text)| format!("\"{name}\":{text}"));
    format!("{{{kind},{title},\"status\":{status},{detail}}}")
}

/// A quoted-string ([RFC 9110 section 5.6.4](https://www.rfc-editor.org/rfc/rfc9110#section-5.6.4)); what cannot stand
/// in a header is left out.
fn quoted_string(text: &str) -> String {
    let mut quoted = String::from("\"");
    for character in text.chars().filter(|character| character.is_ascii_graphic() || *character == ' ') {
        if matches!(character, '"' | '\\') {
            quoted.push('\\');
        }
        quoted.push(character);
    }
    quoted.push('"');
    quoted
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_challenge_is_written_as_rfc_9110_has_it() {
        let mut challenge = Challenge::bearer("the \"hill\"\n");
        assert_eq!(challenge.to_string(), r#"Bearer realm="the \"hill\"""#);
        challenge.say("error", "invalid_token");
        challenge.say("scope", "");
        assert_eq!(challenge.to_string(), r#"Bearer realm="the \"hill\"", error="invalid_token""#);
    }
}
