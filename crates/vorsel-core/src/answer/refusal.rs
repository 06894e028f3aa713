//! Why a request is refused.

use std::fmt;

use super::reply::{Answer, Challenge, problem};
use crate::credential::Credential;
use crate::finding::Finding;
use crate::plan::Unmet;

/// Why a request is refused.
///
/// ```
/// use vorsel_core::Refusal;
///
/// let refusal = Refusal::NoRule { signed_in: true };
/// assert_eq!(refusal.answer("api").status, 403);
/// assert_eq!(refusal.to_string(), "no-rule: the access plan says nothing about this method and path");
/// ```
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
    /// The ticket stands for nobody.
    BadTicket {
        /// What was there.
        found: String,
    },
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
    /// The same, where a predicate has said that the caller is not to learn whether there is something at all.
    Hidden(Box<Unmet>),
    /// The path is known, but to other methods only.
    NoMethod {
        /// The methods that the caller may use, or that anybody may.
        methods: Vec<String>,
    },
    /// Neither the plan nor the app has this path, and the caller is known: to a stranger all paths are alike.
    NoPath,
    /// A path parameter is no UTF-8 once it is percent-decoded, so nobody can tell what it is.
    BadParameter {
        /// Its name in the access plan.
        parameter: String,
    },
    /// The plan has no entry for the route, so nobody may reach it.
    NoRule {
        /// Whether the request came with a caller.
        signed_in: bool,
    },
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
            Self::BadTicket { .. } => "bad-ticket",
            Self::Disagreement(..) => "credentials-disagree",
            Self::OtherSite { .. } => "other-site",
            Self::Unanswered { .. } => "unanswered",
            Self::Unmet(_) => "rule-not-met",
            Self::Hidden(_) => "hidden",
            Self::NoMethod { .. } => "no-method",
            Self::NoPath => "no-path",
            Self::BadParameter { .. } => "bad-parameter",
            Self::NoRule { .. } => "no-rule",
        }
    }

    /// The same, said so that the caller does not learn whether there is something at all. Where nothing but a fresh or a
    /// stronger sign-in is missing that is said all the same: it would be for what is not there.
    #[must_use]
    pub fn hidden(self) -> Self {
        match self {
            Self::Unmet(unmet) if unmet.step_up.is_none() => Self::Hidden(unmet),
            other => other,
        }
    }

    /// The answer for the client, in the name of `realm`.
    #[must_use]
    pub fn answer(&self, realm: &str) -> Answer {
        let plain = |status, detail| Answer {
            status,
            challenges: Vec::new(),
            allow: None,
            problem: Some(problem(status, detail)),
        };
        let (status, error, detail) = match self {
            Self::NoMethod { methods } => {
                return Answer { allow: Some(allow(methods)), ..plain(405, "This path knows other methods.") };
            }
            Self::NoPath | Self::Hidden(_) => return plain(404, "There is nothing at this path."),
            Self::BadParameter { .. } => return plain(400, "The path cannot be read."),
            Self::OtherSite { .. } => return plain(403, "This needs a request from the site itself."),
            Self::Unanswered { .. } => return plain(503, "This cannot be answered now. Try again later."),
            Self::NoCredential | Self::NoRule { signed_in: false } => (401, None, "This needs an access token."),
            Self::BadApiKey => (401, None, "The API key is not accepted."),
            Self::BadTicket { .. } => (401, None, "The ticket is not accepted."),
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
        let mut challenge = Challenge::bearer(realm);
        if let Some(error) = error {
            challenge.say("error", error);
        }
        if let Self::Unmet(unmet) = self {
            challenge.say("scope", &unmet.scopes.join(" "));
            // RFC 9470 section 3
            if let Some(step_up) = &unmet.step_up {
                challenge.say("acr_values", &step_up.acr_values.join(" "));
                challenge.say("max_age", &step_up.max_age.map_or_else(String::new, |age| age.as_secs().to_string()));
            }
        }
        Answer { challenges: vec![challenge], ..plain(status, detail) }
    }
}

/// The methods as `Allow` names them: what answers OPTIONS can be asked for as well
/// ([RFC 9110 section 9.3.7](https://www.rfc-editor.org/rfc/rfc9110#section-9.3.7)).
pub(super) fn allow(methods: &[String]) -> String {
    methods.iter().map(String::as_str).chain(["OPTIONS"]).collect::<Vec<_>>().join(", ")
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
            Self::BadTicket { found } => {
                write!(
                    f,
                    "bad-ticket: expected one ticket for this path that is fresh and was not used, but found {found}"
                )
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
            Self::BadToken(finding) => finding.fmt(f),
            Self::Unmet(unmet) => write!(f, "rule-not-met: {}; missing {}", unmet.rule, unmet.parts.join("; ")),
            Self::Hidden(unmet) => write!(f, "hidden: {}; missing {}", unmet.rule, unmet.parts.join("; ")),
            Self::NoMethod { methods } => {
                write!(f, "no-method: expected one of the methods {}, but found another", allow(methods))
            }
            Self::NoPath => f.write_str("no-path: expected a path of the app, but found another"),
            Self::BadParameter { parameter } => {
                write!(f, "bad-parameter: expected percent-encoded UTF-8 in path.{parameter}, but found other bytes")
            }
            Self::NoRule { .. } => f.write_str("no-rule: the access plan says nothing about this method and path"),
        }
    }
}
