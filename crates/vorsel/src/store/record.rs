//! How the stores write what has no type of its own in a database.

use vorsel_core::{EndReason, Ended, Revocation, Revoked, Session, Spent, Timestamp};

/// What of a session a renewal changes, in columns.
#[derive(Debug)]
pub(super) struct Renewal {
    pub(super) id: String,
    pub(super) generation: i64,
    pub(super) renewed_at: i64,
    pub(super) idle_until: i64,
    pub(super) spent: Vec<u8>,
}

impl Renewal {
    pub(super) fn of(next: &Session) -> Self {
        Self {
            id: next.id.clone(),
            generation: next.generation as i64,
            renewed_at: next.renewed_at.as_micros(),
            idle_until: next.idle_until.as_micros(),
            spent: write_spent(&next.spent),
        }
    }
}

/// Spent generations as bytes: two times each, in microseconds, big-endian, the last one first.
pub(super) fn write_spent(spent: &[Spent]) -> Vec<u8> {
    let times = spent.iter().flat_map(|spent| [spent.began_at, spent.idle_until]);
    times.flat_map(|time| time.as_micros().to_be_bytes()).collect()
}

pub(super) fn read_spent(bytes: &[u8]) -> Vec<Spent> {
    let (times, _) = bytes.as_chunks::<8>();
    let (pairs, _) = times.as_chunks::<2>();
    let time = |bytes: [u8; 8]| Timestamp::from_micros(i64::from_be_bytes(bytes));
    pairs.iter().map(|[began, idle]| Spent { began_at: time(*began), idle_until: time(*idle) }).collect()
}

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

/// The session in a row. A macro, since the rows of two databases have no trait in common that reads columns.
#[cfg(any(feature = "postgres", feature = "sqlite"))]
macro_rules! session_of {
    ($row:ident) => {{
        let time = |column: &str| $row.try_get(column).map(vorsel_core::Timestamp::from_micros);
        Ok(vorsel_core::Session {
            id: $row.try_get("id")?,
            subject: $row.try_get("subject")?,
            client_id: $row.try_get("client_id")?,
            device: $row.try_get("device")?,
            acr: $row.try_get("acr")?,
            generation: $row.try_get::<i64, _>("generation")?.max(0) as u64,
            started_at: time("started_at")?,
            renewed_at: time("renewed_at")?,
            idle_until: time("idle_until")?,
            ends_at: time("ends_at")?,
            secret: vorsel_core::Secret::new($row.try_get("secret")?),
            spent: crate::store::record::read_spent($row.try_get("spent")?),
            ended: crate::store::record::read_ended($row.try_get("ended_at")?, $row.try_get("ended_why")?),
        })
    }};
}
#[cfg(any(feature = "postgres", feature = "sqlite"))]
pub(super) use session_of;

/// The compare-and-swap, in the words of both databases.
#[cfg(any(feature = "postgres", feature = "sqlite"))]
pub(super) const ADVANCE: &str = "UPDATE vorsel_sessions
    SET generation = $2, renewed_at = $3, idle_until = $4, spent = $5
    WHERE id = $1 AND generation = $2 - 1 AND ended_at IS NULL";

/// Makes one renewal; says whether it was made.
#[cfg(any(feature = "postgres", feature = "sqlite"))]
macro_rules! advance_one {
    ($pool:expr, $next:expr) => {{
        let swap = sqlx::query(crate::store::record::ADVANCE)
            .bind(&$next.id)
            .bind($next.generation)
            .bind($next.renewed_at)
            .bind($next.idle_until)
            .bind(&$next.spent);
        swap.execute($pool).await.map(|done| done.rows_affected() == 1)
    }};
}
#[cfg(any(feature = "postgres", feature = "sqlite"))]
pub(super) use advance_one;

/// Which renewals are among the rows that were written, by id and generation.
#[cfg(any(feature = "postgres", feature = "sqlite"))]
macro_rules! renewals_in {
    ($rows:expr, $renewals:ident) => {{
        let rows = $rows;
        let made = rows.iter().map(|row| Ok((row.try_get("id")?, row.try_get("generation")?)));
        let made = made.collect::<Result<std::collections::HashMap<String, i64>, sqlx::Error>>()?;
        Ok($renewals.iter().map(|renewal| made.get(&renewal.id) == Some(&renewal.generation)).collect())
    }};
}
#[cfg(any(feature = "postgres", feature = "sqlite"))]
pub(super) use renewals_in;
