//! The session store on any SQL database.

use async_trait::async_trait;
use vorsel_core::{Advance, Facts, Revocation, Session, Timestamp};

use super::batch::{Batcher, WriteTogether};
use super::database::{Columns, Database, Param, Turn};
use super::rows::{RenewalRow, Swapped, entry_of, session_of, write_spent};
use crate::store::contract::{
    Advanced, Cursor, FeedPage, FeedWatch, Kept, Purged, SessionStore, StoreError, StoreFigures,
};
use crate::store::end::{Cap, End, Inserted, Mark, Which};
use crate::store::entry::{Entry, cursor_behind, place_of};

const INSERT: &str = "INSERT INTO vorsel_sessions
    (id, subject, started_at, facts, generation, began_at, idle_until, spent, ended_at, ended_why, purge_at)
    VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11)";
/// A session, with what the first mark that covers it says of its end.
macro_rules! sessions_where {
    ($($condition:literal),+) => {
        concat!(
            "SELECT *,
                (SELECT ended_at FROM vorsel_marks WHERE before > started_at ORDER BY before LIMIT 1) AS marked_at,
                (SELECT ended_why FROM vorsel_marks WHERE before > started_at ORDER BY before LIMIT 1) AS marked_why
             FROM vorsel_sessions WHERE ",
            $($condition),+
        )
    };
}

/// The moment since which what starts is covered by no mark.
macro_rules! since_the_marks {
    () => {
        "(SELECT coalesce(max(before), -9223372036854775807) FROM vorsel_marks)"
    };
}
#[cfg(feature = "postgres")]
pub(super) use since_the_marks;

const LOAD: &str = sessions_where!("id = $1");
const OF_SUBJECT: &str = sessions_where!("subject = $1 ORDER BY started_at");
const PAGE: &str = sessions_where!("id > $1 ORDER BY id LIMIT $2");
const LIVE_OF_SUBJECT: &str = concat!(
    "SELECT id FROM vorsel_sessions WHERE subject = $1 AND ended_at IS NULL AND idle_until > $2 AND started_at >= ",
    since_the_marks!(),
    " ORDER BY started_at"
);
const ADVANCE: &str = concat!(
    "UPDATE vorsel_sessions SET generation = $2, began_at = $3, idle_until = $4, spent = $5
    WHERE id = $1 AND generation < $2 AND ended_at IS NULL AND started_at >= ",
    since_the_marks!()
);
const AUTHENTICATED: &str = concat!(
    "UPDATE vorsel_sessions SET facts = $2 WHERE id = $1 AND ended_at IS NULL AND started_at >= ",
    since_the_marks!()
);
const END_ONE: &str = concat!(
    "UPDATE vorsel_sessions SET ended_at = $1, ended_why = $2 WHERE ended_at IS NULL AND id = $3 AND started_at >= ",
    since_the_marks!(),
    " RETURNING id"
);
const END_OF_SUBJECT: &str = concat!(
    "UPDATE vorsel_sessions SET ended_at = $1, ended_why = $2
    WHERE ended_at IS NULL AND subject = $3 AND started_at >= ",
    since_the_marks!(),
    " RETURNING id"
);
const SET_MARK: &str = "INSERT INTO vorsel_marks (before, ended_at, ended_why) SELECT $1, $2, $3
    WHERE NOT EXISTS (SELECT 1 FROM vorsel_marks WHERE before >= $1)";
const KEEP_MARKS: &str = "DELETE FROM vorsel_marks WHERE before NOT IN
    (SELECT before FROM vorsel_marks ORDER BY before DESC LIMIT $1)";
pub(super) const TELL: &str = "INSERT INTO vorsel_feed (kind, name, up_to, until) VALUES ($1, $2, $3, $4)";
/// An entry as one text: there may be a million of them, and each column costs time.
const FEED: &str = "SELECT place, kind || ' ' || up_to || ' ' || until || ' ' || name AS entry FROM vorsel_feed
    WHERE place >= $1 ORDER BY place LIMIT $2";

const FIGURES: &str = concat!(
    "SELECT (SELECT count(*) FROM vorsel_sessions WHERE ended_at IS NULL AND idle_until > $1 AND started_at >= ",
    since_the_marks!(),
    ") AS alive, (SELECT count(*) FROM vorsel_feed) AS feed"
);

const KEPT: &str = "SELECT version, bytes FROM vorsel_kept WHERE name = $1";
const KEEP_FIRST: &str =
    "INSERT INTO vorsel_kept (name, version, bytes) VALUES ($1, $2 + 1, $3) ON CONFLICT DO NOTHING";
const KEEP_NEXT: &str = "UPDATE vorsel_kept SET version = $2 + 1, bytes = $3 WHERE name = $1 AND version = $2";
const TAKE: &str = "INSERT INTO vorsel_taken (id, until) VALUES ($1, $2) ON CONFLICT DO NOTHING";

/// A store on a SQL database.
pub(super) trait SqlStore: std::fmt::Debug + Send + Sync {
    type Database: Database + WriteTogether<Item = RenewalRow, Outcome = Swapped>;

    fn database(&self) -> &Self::Database;

    fn batcher(&self) -> &Batcher<Self::Database>;
}

/// Makes one renewal by itself.
pub(super) async fn advance_one(database: &impl Database, next: &RenewalRow) -> Result<Swapped, sqlx::Error> {
    let values = [
        Param::Text(&next.id),
        Param::Number(next.generation),
        Param::Number(next.began_at),
        Param::Number(next.idle_until),
        Param::Bytes(&next.spent),
    ];
    let changed = database.change(ADVANCE, &values).await?;
    Ok(if changed == 1 { Swapped::Made } else { Swapped::Lost })
}

/// Awaits an answer of the database, but not for ever.
pub(super) async fn within<D: Database, T>(
    database: &D,
    action: &'static str,
    times: u32,
    answer: impl Future<Output = Result<T, sqlx::Error>>,
) -> Result<T, StoreError> {
    match tokio::time::timeout(database.answer_within() * times, answer).await {
        Ok(answer) => answer.map_err(failed::<D>(action)),
        Err(late) => Err(StoreError::new(action, late).passing()),
    }
}

pub(super) fn failed<D: Database>(action: &'static str) -> impl Fn(sqlx::Error) -> StoreError {
    move |error| {
        let passing = D::is_passing(&error);
        let error = StoreError::new(action, error);
        if passing { error.passing() } else { error }
    }
}

async fn insert<D: Database>(database: &D, session: &Session, cap: Option<Cap>) -> Result<Inserted, sqlx::Error> {
    let (facts, spent) = (session.facts.to_bytes(), write_spent(&session.spent));
    let idle_until = session.current.idle_until.as_micros();
    let values = [
        Param::Text(&session.id),
        Param::Text(&session.facts.subject),
        Param::Number(session.facts.started_at.as_micros()),
        Param::Bytes(&facts),
        Param::Number(session.current.number as i64),
        Param::Number(session.current.began_at.as_micros()),
        Param::Number(idle_until),
        Param::Bytes(&spent),
        Param::MaybeNumber(session.ended.map(|ended| ended.at.as_micros())),
        Param::MaybeText(session.ended.map(|ended| ended.why.code())),
        Param::Number(idle_until),
    ];
    let Some(cap) = cap else {
        database.ask(INSERT, &values).await?;
        return Ok(Inserted::Kept { displaced: 0 });
    };
    let mut transaction = database.begin().await?;
    let subject = &session.facts.subject;
    database.take_turn(&mut transaction, Turn::Subject(subject)).await?;
    let asked = [Param::Text(subject), Param::Number(cap.now.as_micros())];
    let live = database.run(&mut transaction, LIVE_OF_SUBJECT, &asked).await?;
    let live = live.iter().map(|row| row.text("id")).collect::<Result<Vec<_>, _>>()?;
    let Some(first) = cap.making_way(&live) else {
        database.roll_back(transaction).await?;
        return Ok(Inserted::Full);
    };
    database.run(&mut transaction, INSERT, &values).await?;
    // Last, since the others wait for whoever has it.
    if !first.is_empty() {
        database.take_turn(&mut transaction, Turn::Sessions(first)).await?;
        database.take_turn(&mut transaction, Turn::Feed).await?;
    }
    let mut displaced = 0;
    for id in first {
        displaced += carry_out(database, &mut transaction, cap.end(id)).await?.unwrap_or_default();
    }
    database.commit(transaction).await?;
    Ok(Inserted::Kept { displaced })
}

/// Ends sessions and tells of it, in a transaction of its own.
pub(super) async fn end_in_a_transaction<D: Database>(
    database: &D,
    mut transaction: D::Transaction,
    end: End<'_>,
) -> Result<Option<u64>, sqlx::Error> {
    // Before any session is locked: else two of these could wait for each other.
    database.take_turn(&mut transaction, Turn::Feed).await?;
    let count = carry_out(database, &mut transaction, end).await?;
    database.commit(transaction).await?;
    Ok(count)
}

/// Ends sessions and tells of it, in a transaction whose turn it is to write to the feed.
async fn carry_out<D: Database>(
    database: &D,
    transaction: &mut D::Transaction,
    end: End<'_>,
) -> Result<Option<u64>, sqlx::Error> {
    let (at, why) = (Param::Number(end.ended.at.as_micros()), Param::Text(end.ended.why.code()));
    let (statement, which) = match end.which {
        Which::One(id) => (END_ONE, id),
        Which::OfSubject(subject) => (END_OF_SUBJECT, subject),
        Which::StartedBefore(_) => {
            if let Some(mark) = end.mark() {
                let values = [Param::Number(mark.before.as_micros()), at, why];
                database.run(transaction, SET_MARK, &values).await?;
                database.run(transaction, KEEP_MARKS, &[Param::Number(Mark::MOST as i64)]).await?;
            }
            tell(database, transaction, end.entry_for_all()).await?;
            return Ok(None);
        }
    };
    let rows = database.run(transaction, statement, &[at, why, Param::Text(which)]).await?;
    let ids = rows.iter().map(|row| row.text("id")).collect::<Result<Vec<_>, _>>()?;
    tell(database, transaction, ids.iter().filter_map(|id| end.entry_for(id))).await?;
    Ok(Some(ids.len() as u64))
}

/// Puts entries on the feed, in a transaction whose turn it is.
async fn tell<D: Database>(
    database: &D,
    transaction: &mut D::Transaction,
    entries: impl IntoIterator<Item = Revocation> + Send,
) -> Result<(), sqlx::Error> {
    let entries: Vec<_> = entries.into_iter().collect();
    for entry in &entries {
        database.run(transaction, TELL, &columns(&Entry::of(entry))).await?;
    }
    if entries.is_empty() { Ok(()) } else { database.wake(transaction).await }
}

/// An entry as [`TELL`] takes it.
pub(super) const fn columns<'e>(entry: &Entry<'e>) -> [Param<'e>; 4] {
    let Entry { kind, name, up_to, until } = *entry;
    [Param::Text(kind), Param::Text(name), Param::Number(up_to), Param::Number(until)]
}

async fn sessions<D: Database>(
    database: &D,
    action: &'static str,
    statement: &'static str,
    values: &[Param<'_>],
) -> Result<Vec<Session>, StoreError> {
    let read = async { database.ask(statement, values).await?.iter().map(session_of).collect() };
    within(database, action, 1, read).await
}

#[async_trait]
impl<S: SqlStore> SessionStore for S {
    async fn insert(&self, session: &Session, cap: Option<Cap>) -> Result<Inserted, StoreError> {
        let database = self.database();
        within(database, "insert a session", 1, insert(database, session, cap)).await
    }

    async fn load(&self, id: &str) -> Result<Option<Session>, StoreError> {
        Ok(sessions(self.database(), "load a session", LOAD, &[Param::Text(id)]).await?.pop())
    }

    /// What was not tried with the others is tried alone, and so is what failed on the way: that waits for locks, on a
    /// connection that was found to work. If it was made after all, and only the answer was lost, the caller finds its own
    /// successor in the store.
    async fn advance(&self, id: &str, change: Advance<'_>) -> Result<Advanced, StoreError> {
        let (database, next) = (self.database(), RenewalRow::of(id, change));
        let tried = async {
            let written = match self.batcher().write(next.clone()).await {
                Err(error) if !error.is_retryable() => return Err(error),
                Ok(Swapped::NotTried) | Err(_) => {
                    advance_one(database, &next).await.map_err(failed::<S::Database>("advance a session"))?
                }
                Ok(written) => written,
            };
            Ok(if written == Swapped::Made { Advanced::Made } else { Advanced::Lost })
        };
        // Both ways together take no longer than any other answer.
        let late = |late| Err(StoreError::new("advance a session", late).passing());
        tokio::time::timeout(database.answer_within(), tried).await.unwrap_or_else(late)
    }

    async fn authenticated(&self, id: &str, facts: &Facts) -> Result<bool, StoreError> {
        let (database, bytes) = (self.database(), facts.to_bytes());
        let values = [Param::Text(id), Param::Bytes(&bytes)];
        let changed = database.change(AUTHENTICATED, &values);
        Ok(within(database, "keep how a caller authenticated", 1, changed).await? == 1)
    }

    async fn of_subject(&self, subject: &str) -> Result<Vec<Session>, StoreError> {
        sessions(self.database(), "list a subject's sessions", OF_SUBJECT, &[Param::Text(subject)]).await
    }

    async fn page(&self, after: Option<&str>, limit: u32) -> Result<Vec<Session>, StoreError> {
        let values = [Param::Text(after.unwrap_or_default()), Param::Number(limit.into())];
        sessions(self.database(), "list sessions", PAGE, &values).await
    }

    async fn end(&self, end: End<'_>) -> Result<Option<u64>, StoreError> {
        let database = self.database();
        within(database, "end sessions", 1, database.end(end)).await
    }

    async fn revoke(&self, revocation: &Revocation) -> Result<(), StoreError> {
        let database = self.database();
        within(database, "put an entry on the feed", 1, database.revoke(Entry::of(revocation))).await
    }

    async fn feed(&self, after: Option<&Cursor>, limit: u32) -> Result<FeedPage, StoreError> {
        const ACTION: &str = "read the feed";
        let database = self.database();
        let place = match after {
            Some(cursor) => place_of(cursor).parse::<i64>().map_err(|error| StoreError::new(ACTION, error))?,
            None => i64::MIN,
        };
        // With the entry that the cursor stands behind, which is known again.
        let limit = i64::from(limit);
        let page_from = async |place, limit| {
            let rows = database.read_feed(FEED, &[Param::Number(place), Param::Number(limit)]).await?;
            rows.iter().map(entry_of).collect::<Result<Vec<_>, sqlx::Error>>()
        };
        let read = async {
            let mut rows = page_from(place, limit + i64::from(after.is_some())).await?;
            let first = rows.first().map(|(entry, place)| cursor_behind(place, entry));
            let is_anew = after.is_some() && first.as_ref() != after;
            if is_anew {
                rows = page_from(i64::MIN, limit).await?;
            } else if after.is_some() {
                rows.remove(0);
            }
            let last = rows.last().map(|(entry, place)| cursor_behind(place, entry));
            let go_on = after.filter(|_| !is_anew).cloned();
            let entries = rows.into_iter().map(|(entry, _)| entry).collect();
            Ok(FeedPage { entries, cursor: last.or(go_on), is_anew })
        };
        within(database, ACTION, 1, read).await
    }

    async fn watch(&self) -> Result<Box<dyn FeedWatch>, StoreError> {
        self.database().watch().await
    }

    async fn time(&self) -> Result<Option<Timestamp>, StoreError> {
        within(self.database(), "tell the time", 1, self.database().time()).await
    }

    /// It goes through all sessions.
    async fn figures(&self, now: Timestamp) -> Result<StoreFigures, StoreError> {
        const ACTION: &str = "count its sessions";
        let database = self.database();
        let counted = async {
            let rows = database.ask(FIGURES, &[Param::Number(now.as_micros())]).await?;
            let number = |column| rows.first().map_or(Ok(0), |row| row.number(column));
            Ok(StoreFigures::new(number("alive")?.max(0) as u64, number("feed")?.max(0) as u64))
        };
        let (waits, waited) = database.waits();
        Ok(within(database, ACTION, 1, counted).await?.waiting(waits, waited))
    }

    async fn kept(&self, name: &str) -> Result<Option<Kept>, StoreError> {
        const ACTION: &str = "read what is kept beside the sessions";
        let database = self.database();
        let read = async {
            let rows = database.ask(KEPT, &[Param::Text(name)]).await?;
            let kept = |row: &<S::Database as Database>::Row| {
                Ok(Kept { version: row.number("version")?.max(0) as u64, bytes: row.bytes("bytes")? })
            };
            rows.first().map(kept).transpose()
        };
        within(database, ACTION, 1, read).await
    }

    async fn keep(&self, name: &str, after: u64, bytes: &[u8]) -> Result<bool, StoreError> {
        const ACTION: &str = "keep something beside the sessions";
        let database = self.database();
        let after = i64::try_from(after).map_err(|error| StoreError::new(ACTION, error))?;
        let values = [Param::Text(name), Param::Number(after), Param::Bytes(bytes)];
        let changed = match after {
            0 => database.change(KEEP_FIRST, &values),
            _ => database.change(KEEP_NEXT, &values),
        };
        Ok(within(database, ACTION, 1, changed).await? == 1)
    }

    async fn take(&self, id: &str, until: Timestamp) -> Result<bool, StoreError> {
        let database = self.database();
        let values = [Param::Text(id), Param::Number(until.as_micros())];
        Ok(within(database, "take an id", 1, database.change(TAKE, &values)).await? == 1)
    }

    async fn purge(&self, before: Timestamp, limit: u32) -> Result<Purged, StoreError> {
        let database = self.database();
        let values = [Param::Number(before.as_micros()), Param::Number(limit.into())];
        let done = async {
            let [feed, taken, moved, over] = S::Database::PURGE;
            let entries = database.change(feed, &values).await?;
            let taken = database.change(taken, &values).await?;
            let put_off = database.change(moved, &values).await?;
            Ok(Purged { sessions: database.change(over, &values).await?, entries, taken, put_off })
        };
        within(database, "purge sessions", 1, done).await
    }
}
