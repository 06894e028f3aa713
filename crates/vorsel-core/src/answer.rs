//! What the client is told: status, challenge and problem body, as data.
//!
//! A [`Refusal`] knows everything and is for the log. Its [`Answer`] says what the standards allow:
//! [RFC 6750 section 3](https://www.rfc-editor.org/rfc/rfc6750#section-3) for the challenge,
//! [RFC 9470 section 3](https://www.rfc-editor.org/rfc/rfc9470#section-3) where a fresh sign-in is all that is missing,
//! [RFC 9457](https://www.rfc-editor.org/rfc/rfc9457) for the body, and nothing that helps an attacker.

use std::fmt;

use crate::credential::Credential;
use crate::finding::Finding;
use crate::plan::Unmet;

/// Why a request does not go through to its handler.
#[derive(Clone, Debug)]
#[non_exhaustive]
pub enum Refusal {
    /// The request has no credential, and the route needs a caller.
    NoCredential,
    /// A header cannot be read as one credential.
    BadHeader {
        /// Its name.
        header: String,
        /// What would be right.
        expected: &'static str,
        /// What was there.
        found: String,
    },
    /// The token was refused.
    BadToken(Box<Finding>),
    /// Nobody owns this API key.
    BadApiKey,
    /// Two credentials of the request are for different callers.
    Disagreement(Credential, Credential),
    /// The caller is known by a cookie only, and the request may come from another site, which a browser sends the cookie
    /// to as well.
    OtherSite {
        /// What the request says of where it comes from.
        found: String,
    },
    /// It cannot be told now who the caller is, or whether the rule holds.
    Unanswered {
        /// What has no answer.
        what: String,
        /// Why.
        reason: String,
    },
    /// The caller does not fulfil the route's rule.
    Unmet(Box<Unmet>),
    /// A CORS preflight, which comes without credentials; answered here, since a handler is no place for it.
    Preflight,
    /// A request for the options of a path, answered here.
    Options {
        /// The methods that the caller may use.
        methods: Vec<String>,
    },
    /// The path is open, but only to other methods.
    NoMethod {
        /// The methods it is open to.
        open_to: Vec<String>,
    },
    /// The plan has no entry for the route, so nobody may reach it.
    NoRule {
        /// Whether the request came with a caller.
        signed_in: bool,
    },
}

/// What the client is told.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub struct Answer {
    /// The HTTP status: 204, 400, 401, 403, 405 or 503.
    pub status: u16,
    /// The value of the `WWW-Authenticate` header.
    pub challenge: Option<String>,
    /// The value of the `Allow` header, for 405 and for the options of a path.
    pub allow: Option<String>,
    /// The body, `application/problem+json`; nothing for 204.
    pub problem: Option<String>,
}

impl Refusal {
    /// The finding's or rule's name, for logs and scripts.
    #[must_use]
    pub fn code(&self) -> &'static str {
        match self {
            Self::NoCredential => "no-credential",
            Self::BadHeader { .. } => "bad-header",
            Self::BadToken(finding) => finding.check.code(),
            Self::BadApiKey => "unknown-api-key",
            Self::Disagreement(..) => "credentials-disagree",
            Self::OtherSite { .. } => "other-site",
            Self::Unanswered { .. } => "unanswered",
            Self::Preflight => "preflight",
            Self::Options { .. } => "options",
            Self::Unmet(_) => "rule-not-met",
            Self::NoMethod { .. } => "no-method",
            Self::NoRule { .. } => "no-rule",
        }
    }

    /// The answer for the client, in the name of `realm`.
    #[must_use]
    pub fn answer(&self, realm: &str) -> Answer {
        let plain = |status, detail| {
            let problem = (status != 204).then(|| problem(status, detail));
            Answer { status, challenge: None, allow: None, problem }
        };
        let (status, error, detail) = match self {
            Self::Preflight => return plain(204, ""),
            Self::Options { methods } => {
                // What is answered here can be used as well (RFC 9110 section 9.3.7).
                return Answer { allow: Some(format!("{}, OPTIONS", methods.join(", "))), ..plain(204, "") };
            }
            Self::NoMethod { open_to } => {
                return Answer { allow: Some(open_to.join(", ")), ..plain(405, "This path knows other methods.") };
            }
            Self::OtherSite { .. } => return plain(403, "This needs a request from the site itself."),
            Self::Unanswered { .. } => return plain(503, "This cannot be answered now. Try again later."),
            Self::NoCredential | Self::NoRule { signed_in: false } => (401, None, "This needs an access token."),
            Self::BadApiKey => (401, None, "The API key is not accepted."),
            Self::BadHeader { .. } => (400, Some("invalid_request"), "A header with a credential cannot be read."),
            Self::Disagreement(..) => (400, Some("invalid_request"), "The credentials are not of one caller."),
            Self::BadToken(_) => (401, Some("invalid_token"), "The access token is not accepted."),
            Self::Unmet(unmet) if unmet.step_up.is_some() => {
                (401, Some("insufficient_user_authentication"), "This needs a fresh or a stronger sign-in.")
            }
            Self::Unmet(_) | Self::NoRule { signed_in: true } => {
                (403, Some("insufficient_scope"), "The access token does not reach this far.")
            }
        };
        let mut challenge = format!("Bearer realm={}", quoted_string(realm));
        if let Some(error) = error {
            challenge.push_str(&format!(", error=\"{error}\""));
        }
        let Self::Unmet(unmet) = self else {
            return Answer { challenge: Some(challenge), ..plain(status, detail) };
        };
        if !unmet.scopes.is_empty() {
            challenge.push_str(&format!(", scope={}", quoted_string(&unmet.scopes.join(" "))));
        }
        if let Some(step_up) = &unmet.step_up {
            // RFC 9470 section 3
            if !step_up.acr_values.is_empty() {
                challenge.push_str(&format!(", acr_values={}", quoted_string(&step_up.acr_values.join(" "))));
            }
            if let Some(max_age) = step_up.max_age {
                challenge.push_str(&format!(", max_age=\"{}\"", max_age.as_secs()));
            }
        }
        Answer { challenge: Some(challenge), ..plain(status, detail) }
    }
}

impl fmt::Display for Refusal {
    /// One line for the log: what was expected and what was found.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::NoCredential => {
                f.write_str("no-credential: expected a bearer token, but found none (RFC 6750 section 3.1)")
            }
            Self::BadHeader { header, expected, found } => {
                write!(f, "bad-header: expected {expected} in {header}, but found {found}")
            }
            Self::BadApiKey => {
                f.write_str("unknown-api-key: expected an API key that somebody owns, but found another")
            }
            Self::Disagreement(one, other) => {
                write!(
                    f,
                    "credentials-disagree: expected one caller, but found the {one} of one and the {other} of another"
                )
            }
            Self::OtherSite { found } => {
                write!(f, "other-site: expected a request from the site itself with the cookie, but found {found}")
            }
            Self::Unanswered { what, reason } => write!(f, "unanswered: {what}: {reason}"),
            Self::Preflight => f.write_str("preflight: answered; a CORS layer belongs around the guard"),
            Self::Options { methods } => write!(f, "options: answered with {}", methods.join(", ")),
            Self::BadToken(finding) => finding.fmt(f),
            Self::Unmet(unmet) => write!(f, "rule-not-met: {}; missing {}", unmet.rule, unmet.parts.join("; ")),
            Self::NoMethod { open_to } => write!(f, "no-method: the path is open to {} only", open_to.join(", ")),
            Self::NoRule { .. } => f.write_str("no-rule: the access plan says nothing about this method and path"),
        }
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
        405 => "Method Not Allowed",
        503 => "Service Unavailable",
        _ => "Internal Server Error",
    };
    serde_json::json!({ "type": "about:blank", "title": title, "status": status, "detail": detail }).to_string()
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
