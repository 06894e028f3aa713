//! How the stores write what has no type of its own in a database.

use vorsel_core::{EndReason, Ended, Revocation, Revoked, Timestamp};

/// A reason that a later release wrote still means that the session is over.
pub(super) fn read_ended(at: Option<i64>, why: Option<&str>) -> Option<Ended> {
    let why = why.and_then(EndReason::from_code).unwrap_or(EndReason::Withdrawn);
    at.map(|at| Ended { at: Timestamp::from_micros(at), why })
}

/// An entry of the feed in columns.
pub(super) struct Entry<'r> {
    pub(super) kind: &'static str,
    pub(super) name: &'r str,
    pub(super) up_to: i64,
    pub(super) until: i64,
}

pub(super) const SESSION: &str = "session";
pub(super) const EVERYTHING: &str = "everything";

impl<'r> Entry<'r> {
    pub(super) fn of(revocation: &'r Revocation) -> Self {
        let (kind, name, up_to) = match &revocation.what {
            Revoked::Token(id) => ("token", id.as_str(), 0),
            Revoked::Session(id) => (SESSION, id.as_str(), 0),
            Revoked::Key(id) => ("key", id.as_str(), 0),
            Revoked::Subject { subject, up_to } => ("subject", subject.as_str(), up_to.as_micros()),
            Revoked::Everything { up_to } => (EVERYTHING, "", up_to.as_micros()),
        };
        Self { kind, name, up_to, until: revocation.until.as_micros() }
    }
}

/// Reads an entry. One of a kind that a later release has brought in is taken for all tokens up to the moment it was
/// written for: too much is refused rather than too little.
pub(super) fn read_entry(kind: &str, name: String, up_to: i64, until: i64) -> Revocation {
    let (up_to, until) = (Timestamp::from_micros(up_to), Timestamp::from_micros(until));
    let what = match kind {
        "token" => Revoked::Token(name),
        SESSION => Revoked::Session(name),
        "key" => Revoked::Key(name),
        "subject" => Revoked::Subject { subject: name, up_to },
        _ => Revoked::Everything { up_to },
    };
    Revocation { what, until }
}
