//! Ends and revocations: whatever puts something on the feed.
//!
//! Those that come at the same time are one statement. It takes its turn on the feed when it has all the sessions, so whoever has the
//! turn waits for nothing more, and whatever becomes of the host that asked, the turn is over with the statement. A session
//! that somebody else has locked is left out, and ended alone, so that nobody waits for it but who asked for it.

use std::sync::Arc;
use std::time::Duration;

use async_trait::async_trait;
use sqlx::postgres::PgRow;
use sqlx::{Row, query};
use tokio::time::timeout;

use super::lender::Lender;
use super::schema::Schema;
use crate::store::contract::StoreError;
use crate::store::end::End;
use crate::store::entry::Entry;
use crate::store::sql::batch::{Batcher, WriteTogether};
use crate::store::sql::store::since_the_marks;

macro_rules! end_of {
    ($meant:literal) => {
        concat!(
            "WITH meant AS MATERIALIZED (
                SELECT id FROM vorsel_sessions WHERE ended_at IS NULL AND ",
            $meant,
            " AND started_at >= ",
            since_the_marks!(),
            " ORDER BY id FOR UPDATE
             ), turn AS MATERIALIZED (
                SELECT pg_advisory_xact_lock($5) FROM (SELECT count(*) AS count FROM meant) AS counted WHERE count > 0
             ), ended AS (
                UPDATE vorsel_sessions AS kept SET ended_at = $1, ended_why = $2 FROM meant, turn
                WHERE kept.id = meant.id AND kept.ended_at IS NULL RETURNING kept.id, kept.started_at
             ), told AS (
                INSERT INTO vorsel_feed (kind, name, up_to, until)
                SELECT 'session', id, 0, $4 FROM ended ORDER BY started_at RETURNING place
             )
             SELECT count(*) AS count, CASE WHEN count(*) > 0 THEN pg_notify($6, '')::text END AS woken FROM told"
        )
    };
}

const END_ONE: &str = end_of!("id = $3");
const END_OF_SUBJECT: &str = end_of!("subject = $3");
const REVOKE: &str = "WITH turn AS MATERIALIZED (
        SELECT pg_advisory_xact_lock($5)
    ), told AS (
        INSERT INTO vorsel_feed (kind, name, up_to, until) SELECT $1, $2, $3, $4 FROM turn RETURNING place
    )
    SELECT count(*) AS count, pg_notify($6, '')::text AS woken FROM told";
/// Ends, as columns of their ids, times, reasons and until when they are remembered; and entries, as columns of the feed.
const SEVERAL: &str = concat!(
    "WITH meant AS MATERIALIZED (
        SELECT kept.ctid, asked.*
        FROM unnest($1::text[], $2::bigint[], $3::text[], $4::bigint[]) AS asked (id, at, why, until)
        JOIN vorsel_sessions AS kept ON kept.id = asked.id
        WHERE kept.ended_at IS NULL AND kept.started_at >= ",
    since_the_marks!(),
    " ORDER BY kept.id FOR UPDATE OF kept SKIP LOCKED
     ), turn AS MATERIALIZED (
        SELECT pg_advisory_xact_lock($9) FROM (SELECT count(*) AS count FROM meant) AS counted
        WHERE count > 0 OR cardinality($5::text[]) > 0
     ), ended AS (
        UPDATE vorsel_sessions AS kept SET ended_at = meant.at, ended_why = meant.why FROM meant, turn
        WHERE kept.ctid = meant.ctid AND kept.ended_at IS NULL
        RETURNING kept.id, meant.until
     ), told AS (
        INSERT INTO vorsel_feed (kind, name, up_to, until)
        SELECT 'session', id, 0, until FROM ended
        UNION ALL
        SELECT entry.* FROM turn, unnest($5::text[], $6::text[], $7::bigint[], $8::bigint[]) AS entry
        RETURNING place
     )
     SELECT (SELECT array_agg(id) FROM ended) AS ids,
        CASE WHEN count(*) > 0 THEN pg_notify($10, '')::text END AS woken FROM told"
);

/// What puts something on the feed.
#[derive(Clone, Debug)]
pub(super) struct Tellers {
    batcher: Batcher<Together>,
    /// For what is done alone.
    turns: Lender,
    schema: Arc<Schema>,
}

/// What is done with others.
#[derive(Clone)]
struct Together {
    lender: Lender,
    schema: Arc<Schema>,
    answer_within: Duration,
}

enum Item {
    End { id: String, at: i64, why: &'static str, until: i64 },
    Entry { kind: &'static str, name: String, up_to: i64, until: i64 },
}

#[derive(Clone, Copy, PartialEq, Eq)]
enum Outcome {
    Done,
    /// Another did the same at the same time.
    AlreadyDone,
    /// There is nothing to do, or somebody else has the session locked.
    NotTried,
}

impl Tellers {
    pub(super) fn new(lender: Lender, turns: Lender, schema: Arc<Schema>, answer_within: Duration) -> Self {
        let together = Together { lender, schema: schema.clone(), answer_within };
        Self { batcher: Batcher::new(together), turns, schema }
    }

    /// How many sessions it was: none or one.
    pub(super) async fn end_one(&self, id: &str, end: End<'_>) -> Result<u64, sqlx::Error> {
        let (at, until) = (end.ended.at.as_micros(), end.until.as_micros());
        let item = Item::End { id: id.to_owned(), at, why: end.ended.why.code(), until };
        // What another has made impossible for all is tried alone, too.
        match self.batcher.write(item).await {
            Ok(Outcome::Done) => Ok(1),
            Ok(Outcome::AlreadyDone) => Ok(0),
            Ok(Outcome::NotTried) | Err(_) => self.end(END_ONE, id, end).await,
        }
    }

    pub(super) async fn end_of_subject(&self, subject: &str, end: End<'_>) -> Result<u64, sqlx::Error> {
        self.end(END_OF_SUBJECT, subject, end).await
    }

    async fn end(&self, statement: &'static str, name: &str, end: End<'_>) -> Result<u64, sqlx::Error> {
        let mut lent = self.turns.lend().await?;
        let ended = query(statement)
            .bind(end.ended.at.as_micros())
            .bind(end.ended.why.code())
            .bind(name)
            .bind(end.until.as_micros())
            .bind(self.schema.feed_lock)
            .bind(&self.schema.channel)
            .fetch_one(lent.connection())
            .await;
        Ok(lent.given_back_after(ended)?.try_get::<i64, _>("count")?.max(0) as u64)
    }

    pub(super) async fn revoke(&self, entry: Entry<'_>) -> Result<(), sqlx::Error> {
        let Entry { kind, name, up_to, until } = entry;
        let item = Item::Entry { kind, name: name.to_owned(), up_to, until };
        if matches!(self.batcher.write(item).await, Ok(Outcome::Done | Outcome::AlreadyDone)) {
            return Ok(());
        }
        let mut lent = self.turns.lend().await?;
        let told = query(REVOKE).bind(kind).bind(name).bind(up_to).bind(until);
        let told = told.bind(self.schema.feed_lock).bind(&self.schema.channel).execute(lent.connection()).await;
        lent.given_back_after(told).map(drop)
    }
}

impl Together {
    async fn written(&self, items: &[Item]) -> Result<PgRow, sqlx::Error> {
        let (mut ids, mut ats, mut whys, mut untils) = (Vec::new(), Vec::new(), Vec::new(), Vec::new());
        let (mut kinds, mut names, mut up_tos, mut remembered) = (Vec::new(), Vec::new(), Vec::new(), Vec::new());
        for item in items {
            match item {
                Item::End { id, at, why, until } => {
                    ids.push(&id[..]);
                    ats.push(*at);
                    whys.push(*why);
                    untils.push(*until);
                }
                Item::Entry { kind, name, up_to, until } => {
                    kinds.push(*kind);
                    names.push(&name[..]);
                    up_tos.push(*up_to);
                    remembered.push(*until);
                }
            }
        }
        let ends = query(SEVERAL).bind(ids).bind(ats).bind(whys).bind(untils);
        let all = ends.bind(kinds).bind(names).bind(up_tos).bind(remembered);
        let mut lent = self.lender.lend().await?;
        let all = all.bind(self.schema.feed_lock).bind(&self.schema.channel).fetch_one(lent.connection()).await;
        lent.given_back_after(all)
    }
}

#[async_trait]
impl WriteTogether for Together {
    type Item = Item;
    type Outcome = Outcome;

    /// A second one would wait for its turn on the feed, and both would be smaller.
    const AT_ONCE: usize = 1;
    const ACTION: &'static str = "put something on the feed";

    fn are_alike(one: &Item, other: &Item) -> bool {
        match (one, other) {
            (Item::End { id: one, .. }, Item::End { id: other, .. }) => one == other,
            (
                Item::Entry { kind, name, up_to, until },
                Item::Entry { kind: other_kind, name: other_name, up_to: other_up_to, until: other_until },
            ) => (kind, name, up_to, until) == (other_kind, other_name, other_up_to, other_until),
            _ => false,
        }
    }

    fn like_another(outcome: Outcome) -> Outcome {
        if outcome == Outcome::Done { Outcome::AlreadyDone } else { outcome }
    }

    async fn write(&self, items: &[Item]) -> Result<Vec<Outcome>, StoreError> {
        let wrong = |error: sqlx::Error| StoreError::new(Self::ACTION, error);
        let late = |late| StoreError::new(Self::ACTION, late).passing();
        let row = timeout(self.answer_within, self.written(items)).await.map_err(late)?.map_err(wrong)?;
        let ended: Vec<String> = row.try_get::<Option<_>, _>("ids").map_err(wrong)?.unwrap_or_default();
        let outcome = |item: &Item| match item {
            Item::End { id, .. } if !ended.contains(id) => Outcome::NotTried,
            _ => Outcome::Done,
        };
        Ok(items.iter().map(outcome).collect())
    }
}
