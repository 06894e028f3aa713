//! How the stores write an entry of the feed, and a cursor that knows it again.

use std::fmt;

use vorsel_core::{Revocation, Revoked};

use super::contract::Cursor;

/// An entry of the feed in columns.
pub(super) struct Entry<'r> {
    pub(super) kind: &'static str,
    pub(super) name: &'r str,
    pub(super) up_to: i64,
    pub(super) until: i64,
}

impl<'r> Entry<'r> {
    pub(super) fn of(revocation: &'r Revocation) -> Self {
        let (kind, name, up_to) = match &revocation.what {
            Revoked::Token(id) => ("token", id.as_str(), 0),
            Revoked::Session(id) => ("session", id.as_str(), 0),
            Revoked::Key(id) => ("key", id.as_str(), 0),
            Revoked::SignIns { up_to } => ("sign-ins", "", up_to.as_micros()),
            Revoked::IssuedInSession { session, up_to } => ("issued-in-session", session.as_str(), up_to.as_micros()),
            Revoked::IssuedTo { subject, up_to } => ("issued-to", subject.as_str(), up_to.as_micros()),
            Revoked::Issued { up_to } => ("issued", "", up_to.as_micros()),
        };
        Self { kind, name, up_to, until: revocation.until.as_micros() }
    }
}

/// The cursor behind this entry: it holds the entry itself, so that another one at its place is not taken for it.
pub(super) fn cursor_behind(place: impl fmt::Display, entry: &Revocation) -> Cursor {
    let Entry { kind, name, up_to, until } = Entry::of(entry);
    Cursor::new(format!("{place} {kind} {up_to} {until} {name}"))
}

/// The place of a cursor that stands [behind](cursor_behind) an entry.
pub(super) fn place_of(cursor: &Cursor) -> &str {
    cursor.as_str().split_once(' ').map_or(cursor.as_str(), |(place, _)| place)
}
