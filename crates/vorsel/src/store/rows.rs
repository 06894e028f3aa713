//! What the rows of both SQL databases have in common.

use vorsel_core::{Session, Spent, Timestamp};

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

/// The session in a row. A macro, since the rows of two databases have no trait in common that reads columns.
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
            spent: crate::store::rows::read_spent($row.try_get("spent")?),
            ended: crate::store::record::read_ended($row.try_get("ended_at")?, $row.try_get("ended_why")?),
        })
    }};
}
pub(super) use session_of;

/// The compare-and-swap, in the words of both databases.
pub(super) const ADVANCE: &str = "UPDATE vorsel_sessions
    SET generation = $2, renewed_at = $3, idle_until = $4, spent = $5
    WHERE id = $1 AND generation = $2 - 1 AND ended_at IS NULL";

/// Makes one renewal; says whether it was made.
macro_rules! advance_one {
    ($pool:expr, $next:expr) => {{
        let swap = sqlx::query(crate::store::rows::ADVANCE)
            .bind(&$next.id)
            .bind($next.generation)
            .bind($next.renewed_at)
            .bind($next.idle_until)
            .bind(&$next.spent);
        swap.execute($pool).await.map(|done| done.rows_affected() == 1)
    }};
}
pub(super) use advance_one;

/// Which renewals are among the rows that were written, by id and generation.
macro_rules! renewals_in {
    ($rows:expr, $renewals:ident) => {{
        let rows = $rows;
        let made = rows.iter().map(|row| Ok((row.try_get("id")?, row.try_get("generation")?)));
        let made = made.collect::<Result<std::collections::HashMap<String, i64>, sqlx::Error>>()?;
        Ok($renewals.iter().map(|renewal| made.get(&renewal.id) == Some(&renewal.generation)).collect())
    }};
}
pub(super) use renewals_in;
