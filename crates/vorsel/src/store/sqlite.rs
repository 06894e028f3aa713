//! Sessions in a SQLite file: the embedded store. Several processes may share the file.

use std::path::Path;
use std::time::Duration;

use async_trait::async_trait;
use sqlx::sqlite::{
    SqliteConnectOptions, SqliteJournalMode, SqlitePool, SqlitePoolOptions, SqliteRow, SqliteSynchronous,
};
use sqlx::{Row, query};
use vorsel_core::{EndReason, Ended, Secret, Session, Timestamp};

use super::contract::{SessionStore, StoreError, Which};

/// Keeps sessions in a SQLite file.
#[derive(Clone, Debug)]
pub struct SqliteStore {
    pool: SqlitePool,
}

/// Version 1 of the schema. Times are microseconds since 1970.
const SCHEMA: [&str; 3] = [
    "CREATE TABLE IF NOT EXISTS vorsel_sessions (
        id TEXT PRIMARY KEY,
        subject TEXT NOT NULL,
        client_id TEXT NOT NULL,
        device TEXT,
        generation INTEGER NOT NULL,
        started_at INTEGER NOT NULL,
        renewed_at INTEGER NOT NULL,
        idle_until INTEGER NOT NULL,
        ends_at INTEGER NOT NULL,
        secret BLOB NOT NULL,
        ended_at INTEGER,
        ended_why TEXT
    ) STRICT, WITHOUT ROWID",
    "CREATE INDEX IF NOT EXISTS vorsel_sessions_by_subject ON vorsel_sessions (subject, started_at)",
    "CREATE INDEX IF NOT EXISTS vorsel_sessions_by_idle_until ON vorsel_sessions (idle_until)",
];

const END_ONE: &str = "UPDATE vorsel_sessions SET ended_at = ?, ended_why = ? WHERE ended_at IS NULL AND id = ?";
const END_OF_SUBJECT: &str =
    "UPDATE vorsel_sessions SET ended_at = ?, ended_why = ? WHERE ended_at IS NULL AND subject = ?";
const END_STARTED_BEFORE: &str =
    "UPDATE vorsel_sessions SET ended_at = ?, ended_why = ? WHERE ended_at IS NULL AND started_at < ?";

/// A writer waits this long for another process before it gives up with an error.
const WAIT_FOR_WRITER: Duration = Duration::from_secs(10);
const CONNECTIONS: u32 = 4;

impl SqliteStore {
    /// Opens the file, makes it and its tables if they are not there. Safe to call on every start and by several
    /// processes at once.
    ///
    /// # Errors
    /// If the file cannot be opened or made, or is not a database.
    pub async fn open(path: impl AsRef<Path>) -> Result<Self, StoreError> {
        let options = SqliteConnectOptions::new()
            .filename(path)
            .create_if_missing(true)
            .journal_mode(SqliteJournalMode::Wal)
            // A renewal that was answered must survive a power cut: else the client holds a token nobody knows.
            .synchronous(SqliteSynchronous::Full)
            .busy_timeout(WAIT_FOR_WRITER);
        let store = Self { pool: connect(options).await.map_err(failed("open the database"))? };
        store.set_up().await.map_err(failed("set its tables up"))?;
        Ok(store)
    }

    async fn set_up(&self) -> Result<(), sqlx::Error> {
        let mut transaction = self.pool.begin_with("BEGIN IMMEDIATE").await?;
        for statement in SCHEMA {
            query(statement).execute(&mut *transaction).await?;
        }
        transaction.commit().await
    }

    /// Closes the file; what is under way is finished first.
    pub async fn close(&self) {
        self.pool.close().await;
    }
}

/// Opens the file. When several processes open a new one at once, turning the write-ahead log on fails with "busy" for
/// all but one of them, whatever the busy timeout is; a moment later it is on.
async fn connect(options: SqliteConnectOptions) -> Result<SqlitePool, sqlx::Error> {
    const PAUSE: Duration = Duration::from_millis(20);
    let mut attempts_left = WAIT_FOR_WRITER.as_millis() / PAUSE.as_millis();
    loop {
        match SqlitePoolOptions::new().max_connections(CONNECTIONS).connect_with(options.clone()).await {
            Err(error) if is_busy(&error) && attempts_left > 0 => attempts_left -= 1,
            other => return other,
        }
        tokio::time::sleep(PAUSE).await;
    }
}

/// SQLITE_BUSY and its extended codes, which keep it in their low byte.
fn is_busy(error: &sqlx::Error) -> bool {
    const BUSY: i32 = 5;
    let code = error.as_database_error().and_then(|error| error.code()?.parse::<i32>().ok());
    code.is_some_and(|code| code & 0xff == BUSY)
}

fn failed<E: Into<Box<dyn std::error::Error + Send + Sync>>>(action: &'static str) -> impl Fn(E) -> StoreError {
    move |error| StoreError::new(action, error)
}

#[async_trait]
impl SessionStore for SqliteStore {
    async fn insert(&self, session: &Session) -> Result<(), StoreError> {
        query("INSERT INTO vorsel_sessions VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)")
            .bind(&session.id)
            .bind(&session.subject)
            .bind(&session.client_id)
            .bind(&session.device)
            .bind(session.generation as i64)
            .bind(session.started_at.as_micros())
            .bind(session.renewed_at.as_micros())
            .bind(session.idle_until.as_micros())
            .bind(session.ends_at.as_micros())
            .bind(session.secret.expose())
            .bind(session.ended.map(|ended| ended.at.as_micros()))
            .bind(session.ended.map(|ended| ended.why.code()))
            .execute(&self.pool)
            .await
            .map_err(failed("insert a session"))?;
        Ok(())
    }

    async fn load(&self, id: &str) -> Result<Option<Session>, StoreError> {
        let row = query("SELECT * FROM vorsel_sessions WHERE id = ?").bind(id).fetch_optional(&self.pool).await;
        row.and_then(|row| row.map(read).transpose()).map_err(failed("load a session"))
    }

    async fn advance(&self, next: &Session) -> Result<bool, StoreError> {
        let done = query(
            "UPDATE vorsel_sessions SET generation = ?, renewed_at = ?, idle_until = ?
             WHERE id = ? AND generation = ? AND ended_at IS NULL",
        )
        .bind(next.generation as i64)
        .bind(next.renewed_at.as_micros())
        .bind(next.idle_until.as_micros())
        .bind(&next.id)
        .bind(next.generation as i64 - 1)
        .execute(&self.pool)
        .await
        .map_err(failed("advance a session"))?;
        Ok(done.rows_affected() == 1)
    }

    async fn of_subject(&self, subject: &str) -> Result<Vec<Session>, StoreError> {
        let rows = query("SELECT * FROM vorsel_sessions WHERE subject = ? ORDER BY started_at")
            .bind(subject)
            .fetch_all(&self.pool)
            .await;
        rows.and_then(|rows| rows.into_iter().map(read).collect()).map_err(failed("list a subject's sessions"))
    }

    async fn end(&self, which: Which<'_>, ended: Ended) -> Result<u64, StoreError> {
        let (at, why) = (ended.at.as_micros(), ended.why.code());
        let statement = match which {
            Which::One(_) => END_ONE,
            Which::OfSubject(_) => END_OF_SUBJECT,
            Which::StartedBefore(_) => END_STARTED_BEFORE,
        };
        let statement = query(statement).bind(at).bind(why);
        let statement = match which {
            Which::One(text) | Which::OfSubject(text) => statement.bind(text),
            Which::StartedBefore(moment) => statement.bind(moment.as_micros()),
        };
        let done = statement.execute(&self.pool).await.map_err(failed("end sessions"))?;
        Ok(done.rows_affected())
    }

    async fn purge(&self, before: Timestamp, limit: u32) -> Result<u64, StoreError> {
        let done = query(
            "DELETE FROM vorsel_sessions WHERE id IN
             (SELECT id FROM vorsel_sessions WHERE idle_until < ? LIMIT ?)",
        )
        .bind(before.as_micros())
        .bind(limit)
        .execute(&self.pool)
        .await
        .map_err(failed("purge sessions"))?;
        Ok(done.rows_affected())
    }
}

fn read(row: SqliteRow) -> Result<Session, sqlx::Error> {
    let time = |column: &str| row.try_get(column).map(Timestamp::from_micros);
    let ended = match (row.try_get::<Option<i64>, _>("ended_at")?, row.try_get::<Option<&str>, _>("ended_why")?) {
        (None, _) => None,
        // A reason that a later release wrote still means that the session is over.
        (Some(at), why) => Some(Ended {
            at: Timestamp::from_micros(at),
            why: why.and_then(EndReason::from_code).unwrap_or(EndReason::Withdrawn),
        }),
    };
    Ok(Session {
        id: row.try_get("id")?,
        subject: row.try_get("subject")?,
        client_id: row.try_get("client_id")?,
        device: row.try_get("device")?,
        generation: row.try_get::<i64, _>("generation")?.max(0) as u64,
        started_at: time("started_at")?,
        renewed_at: time("renewed_at")?,
        idle_until: time("idle_until")?,
        ends_at: time("ends_at")?,
        secret: Secret::new(row.try_get("secret")?),
        ended,
    })
}
