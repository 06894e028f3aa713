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
        let (kind, up_to) = match &revocation.what {
            Revoked::Token(_) => ("token", 0),
            Revoked::Session(_) => ("session", 0),
            Revoked::Key(_) => ("key", 0),
            Revoked::SignIns { up_to } => ("sign-ins", up_to.as_micros()),
            Revoked::IssuedInSession { up_to, .. } => ("issued-in-session", up_to.as_micros()),
            Revoked::IssuedTo { up_to, .. } => ("issued-to", up_to.as_micros()),
            Revoked::Issued { up_to } => ("issued", up_to.as_micros()),
        };
        let name = revocation.what.name().unwrap_or_default();
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
