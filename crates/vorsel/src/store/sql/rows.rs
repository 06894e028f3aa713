//! Sessions and entries of the feed as rows.

use std::collections::HashMap;

use vorsel_core::{Advance, Facts, Generation, Revocation, Session, Spent, Timestamp};

use super::database::Columns;
use crate::store::record::{read_ended, read_entry};

/// What became of one renewal of several.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Swapped {
    /// The session is in the new generation.
    Made,
    /// It was there already, has ended, or is not there.
    Lost,
    /// Somebody else has the session locked; nothing was tried.
    #[cfg_attr(not(feature = "postgres"), expect(dead_code, reason = "only PostgreSQL locks single sessions"))]
    NotTried,
}

/// A renewal in columns.
#[derive(Clone, Debug)]
pub(super) struct RenewalRow {
    pub(super) id: String,
    pub(super) generation: i64,
    pub(super) began_at: i64,
    pub(super) idle_until: i64,
    pub(super) spent: Vec<u8>,
}

/// What a renewal does, for errors.
pub(super) const ADVANCE: &str = "advance a session";

impl RenewalRow {
    /// Of two of these at most one is made.
    pub(super) fn is_of_the_generation_of(&self, other: &Self) -> bool {
        (self.generation, &self.id) == (other.generation, &other.id)
    }

    pub(super) fn of(id: &str, change: Advance<'_>) -> Self {
        Self {
            id: id.to_owned(),
            generation: change.current.number as i64,
            began_at: change.current.began_at.as_micros(),
            idle_until: change.current.idle_until.as_micros(),
            spent: write_spent(change.spent),
        }
    }
}

/// Spent generations as bytes: two times each, in microseconds, big-endian, the last one first.
pub(super) fn write_spent(spent: &[Spent]) -> Vec<u8> {
    let times = spent.iter().flat_map(|spent| [spent.began_at, spent.idle_until]);
    times.flat_map(|time| time.as_micros().to_be_bytes()).collect()
}

fn read_spent(bytes: &[u8]) -> Vec<Spent> {
    let (times, _) = bytes.as_chunks::<8>();
    let (pairs, _) = times.as_chunks::<2>();
    let time = |bytes: [u8; 8]| Timestamp::from_micros(i64::from_be_bytes(bytes));
    pairs.iter().map(|[began, idle]| Spent { began_at: time(*began), idle_until: time(*idle) }).collect()
}

pub(super) fn session_of(row: &impl Columns) -> Result<Session, sqlx::Error> {
    let time = |column: &str| row.number(column).map(Timestamp::from_micros);
    let facts = Facts::from_bytes(&row.bytes("facts")?).map_err(|error| sqlx::Error::Decode(error.into()))?;
    Ok(Session {
        id: row.text("id")?,
        facts: facts.into(),
        current: Generation {
            number: row.number("generation")?.max(0) as u64,
            began_at: time("began_at")?,
            idle_until: time("idle_until")?,
        },
        spent: read_spent(&row.bytes("spent")?),
        ended: match read_ended(row.maybe_number("ended_at")?, row.maybe_text("ended_why")?.as_deref()) {
            Some(ended) => Some(ended),
            None => read_ended(row.maybe_number("marked_at")?, row.maybe_text("marked_why")?.as_deref()),
        },
    })
}

/// An entry of the feed and its place.
pub(super) fn entry_of(row: &impl Columns) -> Result<(Revocation, i64), sqlx::Error> {
    let unreadable = || sqlx::Error::Decode("an entry without a readable part".into());
    Ok((read_entry(&row.text("entry")?).ok_or_else(unreadable)?, row.number("place")?))
}

/// Which renewals are among the rows that were written, by id and generation.
pub(super) fn made_of<R: Columns>(rows: &[R], renewals: &[RenewalRow]) -> Result<Vec<Swapped>, sqlx::Error> {
    let made = rows.iter().map(|row| Ok((row.text("id")?, row.number("generation")?)));
    let made = made.collect::<Result<HashMap<_, _>, sqlx::Error>>()?;
    let is_made = |next: &RenewalRow| made.get(&next.id) == Some(&next.generation);
    Ok(renewals.iter().map(|next| if is_made(next) { Swapped::Made } else { Swapped::Lost }).collect())
}
