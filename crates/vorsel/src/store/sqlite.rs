//! Sessions in a SQLite file: the embedded store. Several processes may share the file.

use std::path::Path;
use std::time::Duration;

use async_trait::async_trait;
use sqlx::sqlite::{
    SqliteConnectOptions, SqliteJournalMode, SqlitePool, SqlitePoolOptions, SqliteRow, SqliteSynchronous,
};
use sqlx::{QueryBuilder, Row, Sqlite, Transaction, query};
use vorsel_core::{Ended, Revocation, Revoked, Session, Timestamp};

use super::contract::{Cursor, FeedPage, FeedWatch, Inserted, Room, SessionStore, StoreError, Which};
use super::record::{Entry, read_entry};
use super::rows::{Renewal, advance_one, renewals_in, session_of, write_spent};
use super::together::{Together, WriteRenewals};

/// Keeps sessions in a SQLite file.
#[derive(Clone, Debug)]
pub struct SqliteStore {
    pool: SqlitePool,
    together: Together<SqlitePool>,
}

/// The steps from one version of the schema to the next; a file says in `user_version` how many it has taken. Times are
/// microseconds since 1970.
const MIGRATIONS: [&[&str]; 2] = [
    &[
        // Files of the first release do not say that they have taken this step.
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
    ],
    &[
        "ALTER TABLE vorsel_sessions ADD COLUMN acr TEXT",
        "ALTER TABLE vorsel_sessions ADD COLUMN spent BLOB NOT NULL DEFAULT x''",
        // The index of purge_at need not be written at each renewal, as one of idle_until would.
        "ALTER TABLE vorsel_sessions ADD COLUMN purge_at INTEGER NOT NULL DEFAULT 0",
        "UPDATE vorsel_sessions SET purge_at = idle_until",
        "DROP INDEX vorsel_sessions_by_idle_until",
        "CREATE INDEX vorsel_sessions_by_purge_at ON vorsel_sessions (purge_at)",
        "CREATE TABLE vorsel_feed (
            place INTEGER PRIMARY KEY AUTOINCREMENT,
            kind TEXT NOT NULL,
            name TEXT NOT NULL,
            up_to INTEGER NOT NULL,
            until INTEGER NOT NULL
        ) STRICT",
        "CREATE INDEX vorsel_feed_by_until ON vorsel_feed (until)",
    ],
];

const INSERT: &str = "INSERT INTO vorsel_sessions
    (id, subject, client_id, device, acr, generation, started_at, renewed_at, idle_until, ends_at, secret, spent,
     ended_at, ended_why, purge_at)
    VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8, ?9, ?10, ?11, ?12, ?13, ?14, ?9)";
const END_ONE: &str = "UPDATE vorsel_sessions SET ended_at = ?, ended_why = ? WHERE ended_at IS NULL AND id = ?
    RETURNING id, started_at";
const END_OF_SUBJECT: &str =
    "UPDATE vorsel_sessions SET ended_at = ?, ended_why = ? WHERE ended_at IS NULL AND subject = ?
    RETURNING id, started_at";
const END_STARTED_BEFORE: &str =
    "UPDATE vorsel_sessions SET ended_at = ?, ended_why = ? WHERE ended_at IS NULL AND started_at < ?
    RETURNING id, started_at";

/// A writer waits this long for another process before it gives up with an error.
const WAIT_FOR_WRITER: Duration = Duration::from_secs(10);
const CONNECTIONS: u32 = 4;

impl SqliteStore {
    /// Opens the file, makes it and its tables if they are not there. Safe to call on every start and by several
    /// processes at once. A file that it makes is its owner's alone to read, since sessions hold secrets; one that is there
    /// keeps its permissions.
    ///
    /// # Errors
    /// If the file cannot be opened or made, or is not a database.
    pub async fn open(path: impl AsRef<Path>) -> Result<Self, StoreError> {
        make_private(path.as_ref());
        let options = SqliteConnectOptions::new()
            .filename(path)
            .create_if_missing(true)
            .journal_mode(SqliteJournalMode::Wal)
            // A renewal that was answered must survive a power cut: else the client holds a token nobody knows.
            .synchronous(SqliteSynchronous::Full)
            .busy_timeout(WAIT_FOR_WRITER);
        let pool = connect(options).await.map_err(failed("open the database"))?;
        let store = Self { together: Together::new(pool.clone()), pool };
        store.set_up().await?;
        Ok(store)
    }

    async fn set_up(&self) -> Result<(), StoreError> {
        let wrong = failed("set its tables up");
        let mut transaction = self.writing().await.map_err(&wrong)?;
        let row = query("PRAGMA user_version").fetch_one(&mut *transaction).await.map_err(&wrong)?;
        let version = row.try_get::<i64, _>(0).map_err(&wrong)?;
        let taken = usize::try_from(version).ok().filter(|taken| *taken <= MIGRATIONS.len()).ok_or_else(|| {
            let found = format!("expected a schema of version {} or before, but found {version}", MIGRATIONS.len());
            StoreError::new("read a file that a later release has changed", found)
        })?;
        for statement in MIGRATIONS[taken..].iter().flat_map(|statements| statements.iter()) {
            query(*statement).execute(&mut *transaction).await.map_err(&wrong)?;
        }
        if taken < MIGRATIONS.len() {
            query("PRAGMA user_version = 2").execute(&mut *transaction).await.map_err(&wrong)?;
        }
        transaction.commit().await.map_err(&wrong)
    }

    /// A transaction that writes: it takes its turn at once, so that nothing is read that another is about to change.
    async fn writing(&self) -> Result<Transaction<'static, Sqlite>, sqlx::Error> {
        self.pool.begin_with("BEGIN IMMEDIATE").await
    }

    /// Closes the file; what is under way is finished first.
    pub async fn close(&self) {
        self.pool.close().await;
    }
}

/// Makes the file if it is not there; the database's other files get its permissions. What goes wrong here goes wrong when
/// it is opened, too, and is told then.
fn make_private(path: &Path) {
    let mut options = std::fs::OpenOptions::new();
    options.write(true).create_new(true);
    #[cfg(unix)]
    std::os::unix::fs::OpenOptionsExt::mode(&mut options, 0o600);
    drop(options.open(path));
}

/// Opens the file. When several processes open a new one at once, turning the write-ahead log on fails with "busy" for
/// all but one of them, whatever the busy timeout is; a moment later it is on.
async fn connect(options: SqliteConnectOptions) -> Result<SqlitePool, sqlx::Error> {
    const PAUSE: Duration = Duration::from_millis(20);
    let mut attempts_left = WAIT_FOR_WRITER.as_millis() / PAUSE.as_millis();
    loop {
        match SqlitePoolOptions::new()
            .test_before_acquire(false)
            .max_connections(CONNECTIONS)
            .connect_with(options.clone())
            .await
        {
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

fn failed(action: &'static str) -> impl Fn(sqlx::Error) -> StoreError {
    move |error| {
        let passing = is_busy(&error) || matches!(error, sqlx::Error::PoolTimedOut);
        let error = StoreError::new(action, error);
        if passing { error.passing() } else { error }
    }
}

async fn put(
    entries: impl IntoIterator<Item = &Revocation>,
    transaction: &mut Transaction<'_, Sqlite>,
) -> Result<(), sqlx::Error> {
    for entry in entries {
        let Entry { kind, name, up_to, until } = Entry::of(entry);
        query("INSERT INTO vorsel_feed (kind, name, up_to, until) VALUES (?, ?, ?, ?)")
            .bind(kind)
            .bind(name)
            .bind(up_to)
            .bind(until)
            .execute(&mut **transaction)
            .await?;
    }
    Ok(())
}

impl SqliteStore {
    async fn insert_with_room(&self, session: &Session, room: Option<Room>) -> Result<Inserted, sqlx::Error> {
        let mut transaction = self.writing().await?;
        let mut displaced = Vec::new();
        if let Some(room) = room {
            let rows = query(
                "SELECT id FROM vorsel_sessions WHERE subject = ? AND ended_at IS NULL AND idle_until > ?
                 ORDER BY started_at",
            )
            .bind(&session.subject)
            .bind(room.now.as_micros())
            .fetch_all(&mut *transaction)
            .await?;
            let Some(count) = room.to_displace(rows.len()) else { return Ok(Inserted::Full) };
            for row in &rows[..count] {
                let id: String = row.try_get("id")?;
                let ended = room.ended();
                query(END_ONE)
                    .bind(ended.at.as_micros())
                    .bind(ended.why.code())
                    .bind(&id)
                    .execute(&mut *transaction)
                    .await?;
                displaced.push(Revocation { what: Revoked::Session(id), until: room.until });
            }
            put(&displaced, &mut transaction).await?;
        }
        query(INSERT)
            .bind(&session.id)
            .bind(&session.subject)
            .bind(&session.client_id)
            .bind(&session.device)
            .bind(&session.acr)
            .bind(session.generation as i64)
            .bind(session.started_at.as_micros())
            .bind(session.renewed_at.as_micros())
            .bind(session.idle_until.as_micros())
            .bind(session.ends_at.as_micros())
            .bind(session.secret.reveal())
            .bind(write_spent(&session.spent))
            .bind(session.ended.map(|ended| ended.at.as_micros()))
            .bind(session.ended.map(|ended| ended.why.code()))
            .execute(&mut *transaction)
            .await?;
        transaction.commit().await?;
        Ok(Inserted::Kept { displaced: displaced.len() as u64 })
    }

    async fn end_and_tell(&self, which: Which<'_>, ended: Ended, until: Timestamp) -> Result<u64, sqlx::Error> {
        let statement = match which {
            Which::One(_) => END_ONE,
            Which::OfSubject(_) => END_OF_SUBJECT,
            Which::StartedBefore(_) => END_STARTED_BEFORE,
        };
        let statement = query(statement).bind(ended.at.as_micros()).bind(ended.why.code());
        let statement = match which {
            Which::One(text) | Which::OfSubject(text) => statement.bind(text),
            Which::StartedBefore(moment) => statement.bind(moment.as_micros()),
        };
        let (up_to, named_from) = which.feed_entries();
        let mut entries: Vec<_> =
            up_to.map(|up_to| Revocation { what: Revoked::Everything { up_to }, until }).into_iter().collect();
        let mut transaction = self.writing().await?;
        let rows = statement.fetch_all(&mut *transaction).await?;
        for row in &rows {
            if row.try_get::<i64, _>("started_at")? >= named_from.as_micros() {
                entries.push(Revocation { what: Revoked::Session(row.try_get("id")?), until });
            }
        }
        put(&entries, &mut transaction).await?;
        transaction.commit().await?;
        Ok(rows.len() as u64)
    }
}

#[async_trait]
impl WriteRenewals for SqlitePool {
    /// A file has one writer at a time.
    const AT_ONCE: usize = 1;

    async fn write(&self, renewals: &[Renewal]) -> Result<Vec<bool>, StoreError> {
        let wrong = failed("advance a session");
        if let [next] = renewals {
            return Ok(vec![advance_one!(self, next).map_err(wrong)?]);
        }
        let mut swap = QueryBuilder::<Sqlite>::new("WITH next (id, generation, renewed_at, idle_until, spent) AS (");
        swap.push_values(renewals, |mut row, next| {
            row.push_bind(&next.id)
                .push_bind(next.generation)
                .push_bind(next.renewed_at)
                .push_bind(next.idle_until)
                .push_bind(&next.spent[..]);
        });
        swap.push(
            ") UPDATE vorsel_sessions AS kept SET generation = next.generation, renewed_at = next.renewed_at,
                idle_until = next.idle_until, spent = next.spent
             FROM next WHERE kept.id = next.id AND kept.generation = next.generation - 1 AND kept.ended_at IS NULL
             RETURNING id, generation",
        );
        let made = swap.build().fetch_all(self).await;
        made.and_then(|made| renewals_in!(made, renewals)).map_err(wrong)
    }
}

#[async_trait]
impl SessionStore for SqliteStore {
    async fn insert(&self, session: &Session, room: Option<Room>) -> Result<Inserted, StoreError> {
        self.insert_with_room(session, room).await.map_err(failed("insert a session"))
    }

    async fn load(&self, id: &str) -> Result<Option<Session>, StoreError> {
        let row = query("SELECT * FROM vorsel_sessions WHERE id = ?").bind(id).fetch_optional(&self.pool).await;
        row.and_then(|row| row.map(read).transpose()).map_err(failed("load a session"))
    }

    async fn advance(&self, next: &Session) -> Result<bool, StoreError> {
        self.together.advance(next).await
    }

    async fn of_subject(&self, subject: &str) -> Result<Vec<Session>, StoreError> {
        let rows = query("SELECT * FROM vorsel_sessions WHERE subject = ? ORDER BY started_at")
            .bind(subject)
            .fetch_all(&self.pool)
            .await;
        rows.and_then(|rows| rows.into_iter().map(read).collect()).map_err(failed("list a subject's sessions"))
    }

    async fn page(&self, after: Option<&str>, limit: u32) -> Result<Vec<Session>, StoreError> {
        let rows = query("SELECT * FROM vorsel_sessions WHERE id > ? ORDER BY id LIMIT ?")
            .bind(after.unwrap_or_default())
            .bind(limit)
            .fetch_all(&self.pool)
            .await;
        rows.and_then(|rows| rows.into_iter().map(read).collect()).map_err(failed("list sessions"))
    }

    async fn end(&self, which: Which<'_>, ended: Ended, until: Timestamp) -> Result<u64, StoreError> {
        self.end_and_tell(which, ended, until).await.map_err(failed("end sessions"))
    }

    async fn revoke(&self, revocation: &Revocation) -> Result<(), StoreError> {
        let done = async {
            let mut transaction = self.writing().await?;
            put([revocation], &mut transaction).await?;
            transaction.commit().await
        };
        done.await.map_err(failed("put an entry on the feed"))
    }

    /// One writer at a time numbers the entries, so they are seen in the order of their places.
    async fn feed(&self, after: Option<&Cursor>, limit: u32) -> Result<FeedPage, StoreError> {
        let wrong = failed("read the feed");
        let place: i64 = after
            .map_or(Ok(0), |cursor| cursor.as_str().parse())
            .map_err(|error| StoreError::new("read the feed", error))?;
        let rows = query("SELECT * FROM vorsel_feed WHERE place > ? ORDER BY place LIMIT ?")
            .bind(place)
            .bind(limit)
            .fetch_all(&self.pool)
            .await
            .map_err(&wrong)?;
        let mut page = FeedPage { entries: Vec::with_capacity(rows.len()), cursor: after.cloned() };
        for row in rows {
            let (entry, place) = read_feed(&row).map_err(&wrong)?;
            page.entries.push(entry);
            page.cursor = Some(Cursor::new(place.to_string()));
        }
        Ok(page)
    }

    async fn watch(&self) -> Result<Box<dyn FeedWatch>, StoreError> {
        Ok(Box::new(NowAndThen))
    }

    async fn purge(&self, before: Timestamp, limit: u32) -> Result<u64, StoreError> {
        let done = async {
            let mut transaction = self.writing().await?;
            // Sessions that were renewed since they were last looked at get another date.
            let statements = [
                "DELETE FROM vorsel_feed WHERE place IN (SELECT place FROM vorsel_feed WHERE until < ? LIMIT ?)",
                "UPDATE vorsel_sessions SET purge_at = idle_until WHERE id IN
                 (SELECT id FROM vorsel_sessions WHERE purge_at < ?1 AND idle_until >= ?1 LIMIT ?2)",
                "DELETE FROM vorsel_sessions WHERE id IN
                 (SELECT id FROM vorsel_sessions WHERE purge_at < ?1 AND idle_until < ?1 LIMIT ?2)",
            ];
            let mut count = 0;
            for statement in statements {
                let done = query(statement).bind(before.as_micros()).bind(limit).execute(&mut *transaction).await?;
                count = done.rows_affected();
            }
            transaction.commit().await?;
            Ok(count)
        };
        done.await.map_err(failed("purge sessions"))
    }
}

/// SQLite tells nobody of a change in another process; looking costs some microseconds.
struct NowAndThen;

const LOOK_EVERY: Duration = Duration::from_millis(25);

#[async_trait]
impl FeedWatch for NowAndThen {
    async fn grown(&mut self, _: Option<&Cursor>) -> Result<(), StoreError> {
        tokio::time::sleep(LOOK_EVERY).await;
        Ok(())
    }
}

fn read(row: SqliteRow) -> Result<Session, sqlx::Error> {
    session_of!(row)
}

fn read_feed(row: &SqliteRow) -> Result<(Revocation, i64), sqlx::Error> {
    let entry = read_entry(row.try_get("kind")?, row.try_get("name")?, row.try_get("up_to")?, row.try_get("until")?);
    Ok((entry, row.try_get("place")?))
}
