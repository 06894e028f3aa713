//! The claims of a token as they are written.

use serde::Serialize;

use crate::time::Timestamp;

/// The key that a token is bound to ([RFC 9449 section 6.1](https://www.rfc-editor.org/rfc/rfc9449#section-6.1)).
#[derive(Serialize)]
pub(crate) struct Confirmation<'a> {
    pub(super) jkt: &'a str,
}

/// Whom a token is for: one as a text, several as a list.
#[derive(Clone, Copy, Serialize)]
#[serde(untagged)]
pub(crate) enum Audience<'a> {
    One(&'a str),
    Several(&'a [String]),
}

impl<'a> Audience<'a> {
    pub(super) fn of(audiences: &'a [String]) -> Self {
        if let [one] = audiences { Self::One(one) } else { Self::Several(audiences) }
    }

    pub(super) fn iter(self) -> impl Iterator<Item = &'a str> {
        let (one, several): (Option<&str>, &[String]) = match self {
            Self::One(one) => (Some(one), &[]),
            Self::Several(several) => (None, several),
        };
        one.into_iter().chain(several.iter().map(String::as_str))
    }
}

/// The claims of a token in the order written; what is empty is left out.
#[derive(Serialize)]
pub(crate) struct ClaimsToWrite<'a, C> {
    pub(crate) iss: &'a str,
    pub(crate) aud: Audience<'a>,
    pub(crate) iat: i64,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) nbf: Option<i64>,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) exp: Option<i64>,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) sub: Option<&'a str>,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) client_id: Option<&'a str>,
    pub(crate) jti: &'a str,
    #[serde(skip_serializing_if = "str::is_empty")]
    pub(crate) scope: &'a str,
    #[serde(skip_serializing_if = "<[String]>::is_empty")]
    pub(crate) roles: &'a [String],
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) sid: Option<&'a str>,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) auth_time: Option<i64>,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) session_at: Option<i64>,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) acr: Option<&'a str>,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) cnf: Option<Confirmation<'a>>,
    /// An object whose members have other names.
    #[serde(flatten)]
    pub(crate) own: C,
}

impl<'a, C> ClaimsToWrite<'a, C> {
    /// What every token says; the rest is said by whoever makes one.
    pub(crate) const fn of(iss: &'a str, aud: Audience<'a>, jti: &'a str, issued_at: Timestamp, own: C) -> Self {
        Self {
            iss,
            aud,
            iat: issued_at.as_secs(),
            nbf: None,
            exp: None,
            sub: None,
            client_id: None,
            jti,
            scope: "",
            roles: &[],
            sid: None,
            auth_time: None,
            session_at: None,
            acr: None,
            cnf: None,
            own,
        }
    }
}
