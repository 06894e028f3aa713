//! Sessions in a SQLite file: the embedded store. Several processes may share the file.

use std::path::Path;
use std::time::Duration;

use async_trait::async_trait;
use sqlx::sqlite::{
    SqliteConnectOptions, SqliteJournalMode, SqlitePool, SqlitePoolOptions, SqliteRow, SqliteSynchronous,
};
use sqlx::{QueryBuilder, Row, Sqlite, Transaction, query, query_scalar};

use super::batch::{Batcher, WriteTogether};
use super::database::{Database, Param, Turn, bound, columns_of};
use super::rows::{ADVANCE, RenewalRow, Swapped, made_of};
use super::store::{SqlStore, TELL, advance_one, columns, end_in_a_transaction, failed, within};
use crate::store::contract::{Cursor, FeedWatch, StoreError};
use crate::store::end::End;
use crate::store::entry::Entry;
use crate::store::record::steps_left;
use crate::waiting::told;

/// Keeps sessions in a SQLite file.
///
/// ```
/// # #[tokio::main]
/// # async fn main() -> Result<(), Box<dyn std::error::Error>> {
/// use vorsel::store::SqliteStore;
///
/// # let folder = tempfile::tempdir()?;
/// # let path = folder.path().join("sessions.sqlite");
/// let store = SqliteStore::open(&path).await?; // made on first use, its owner's alone to read
/// # Ok(())
/// # }
/// ```
#[derive(Clone, Debug)]
pub struct SqliteStore {
    file: File,
    batcher: Batcher<File>,
}

/// How a SQLite file is used.
///
/// ```
/// let mut settings = vorsel::store::SqliteSettings::default();
/// settings.connections = 8;
/// ```
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub struct SqliteSettings {
    /// How many connections are kept at most. A file has one writer at a time, so more of them help readers only.
    pub connections: u32,
    /// A writer waits this long for another process before it gives up with an error.
    pub wait_for_writer: Duration,
    /// Longer than this nobody waits for an answer: the caller gets an error and may ask again.
    pub answer_within: Duration,
}

impl Default for SqliteSettings {
    /// 4 connections, 4 and 5 seconds.
    fn default() -> Self {
        Self { connections: 4, wait_for_writer: Duration::from_secs(4), answer_within: Duration::from_secs(5) }
    }
}

/// As long as other processes may take to make the file and its tables.
const OPEN_WITHIN: Duration = Duration::from_secs(20);

/// The steps from one version of the schema to the next; a file says in `user_version` how many it has taken. Times are
/// microseconds since 1970.
const MIGRATIONS: &[&[&str]] = &[
    &[
        "CREATE TABLE vorsel_sessions (
        id TEXT PRIMARY KEY,
        subject TEXT NOT NULL,
        started_at INTEGER NOT NULL,
        facts BLOB NOT NULL,
        generation INTEGER NOT NULL,
        began_at INTEGER NOT NULL,
        idle_until INTEGER NOT NULL,
        spent BLOB NOT NULL,
        ended_at INTEGER,
        ended_why TEXT,
        purge_at INTEGER NOT NULL
    ) STRICT, WITHOUT ROWID",
        "CREATE INDEX vorsel_sessions_by_subject ON vorsel_sessions (subject, started_at)",
        // No renewal changes what an index is of, so none of them has to write to one.
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
    &[
        "CREATE TABLE vorsel_marks (before INTEGER PRIMARY KEY, ended_at INTEGER NOT NULL, ended_why TEXT NOT NULL) STRICT",
    ],
    &["CREATE TABLE vorsel_kept (name TEXT PRIMARY KEY, version INTEGER NOT NULL, bytes BLOB NOT NULL) STRICT"],
    &[
        "CREATE TABLE vorsel_taken (id TEXT PRIMARY KEY, until INTEGER NOT NULL) STRICT, WITHOUT ROWID",
        "CREATE INDEX vorsel_taken_by_until ON vorsel_taken (until)",
    ],
];

impl SqliteStore {
    /// Opens the file, makes it and its tables if they are not there. Safe to call on every start and by several
    /// processes at once. A file that it makes is its owner's alone to read, since sessions hold secrets; one that is there
    /// keeps its permissions.
    ///
    /// # Errors
    /// If the file cannot be opened or made, or is not a database.
    pub async fn open(path: impl AsRef<Path>) -> Result<Self, StoreError> {
        Self::open_with(path, SqliteSettings::default()).await
    }

    /// [`open`](Self::open) with other settings than the usual ones.
    ///
    /// # Errors
    /// As [`open`](Self::open).
    pub async fn open_with(path: impl AsRef<Path>, settings: SqliteSettings) -> Result<Self, StoreError> {
        make_private(path.as_ref());
        let options = SqliteConnectOptions::new()
            .filename(path)
            .create_if_missing(true)
            .journal_mode(SqliteJournalMode::Wal)
            // A renewal that was answered must survive a power cut: else the client holds a token nobody knows.
            .synchronous(SqliteSynchronous::Full)
            .busy_timeout(settings.wait_for_writer)
            // A feed of a million entries is read in large pages.
            .row_buffer_size(1_000);
        Self::on(connect(options, &settings), settings.answer_within).await
    }

    /// A store in the file of a pool, on the pool's connections, beside the app's own tables. Of the settings only
    /// `answer_within` counts; the others are the pool's. Its connections should have a busy timeout and
    /// `SqliteSynchronous::Full`; where a power cut could take renewals with it that were answered, a warning says so.
    ///
    /// # Errors
    /// If the tables cannot be made.
    pub async fn from_pool(pool: SqlitePool, settings: SqliteSettings) -> Result<Self, StoreError> {
        let looked_at = async {
            let level: i64 = query_scalar("PRAGMA synchronous").fetch_one(&pool).await?;
            if level < 2 {
                tracing::warn!(
                    target: "vorsel::store",
                    "expected synchronous FULL, but found {level}: a power cut may undo renewals and sign-outs"
                );
            }
            Ok(pool.clone())
        };
        Self::on(looked_at, settings.answer_within).await
    }

    async fn on(
        pool: impl Future<Output = Result<SqlitePool, sqlx::Error>>,
        answer_within: Duration,
    ) -> Result<Self, StoreError> {
        let opened = async {
            let pool = pool.await.map_err(failed::<File>("open the database"))?;
            let file = File { pool, answer_within };
            let store = Self { batcher: Batcher::new(file.clone()), file };
            store.set_up().await?;
            Ok(store)
        };
        let late = |late| Err(StoreError::new("open the database", late).passing());
        told("the file of the session store", tokio::time::timeout(OPEN_WITHIN, opened)).await.unwrap_or_else(late)
    }

    async fn set_up(&self) -> Result<(), StoreError> {
        let wrong = failed::<File>("set its tables up");
        let mut transaction = self.file.begin().await.map_err(&wrong)?;
        let row = query("PRAGMA user_version").fetch_one(&mut *transaction).await.map_err(&wrong)?;
        let left = steps_left(MIGRATIONS, row.try_get(0).map_err(&wrong)?)?;
        for statement in left.concat() {
            query(statement).execute(&mut *transaction).await.map_err(&wrong)?;
        }
        if !left.is_empty() {
            // A pragma takes no parameters.
            let mut version = QueryBuilder::<Sqlite>::new(format!("PRAGMA user_version = {}", MIGRATIONS.len()));
            version.build().execute(&mut *transaction).await.map_err(&wrong)?;
        }
        transaction.commit().await.map_err(&wrong)
    }

    /// Closes the file; what is under way is finished first.
    pub async fn close(&self) {
        self.file.pool.close().await;
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
async fn connect(options: SqliteConnectOptions, settings: &SqliteSettings) -> Result<SqlitePool, sqlx::Error> {
    const PAUSE: Duration = Duration::from_millis(20);
    let mut attempts_left = OPEN_WITHIN.as_millis() / PAUSE.as_millis();
    loop {
        match SqlitePoolOptions::new()
            .test_before_acquire(false)
            .max_connections(settings.connections)
            .acquire_timeout(settings.answer_within)
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

/// An open file.
#[derive(Clone, Debug)]
pub(crate) struct File {
    pool: SqlitePool,
    answer_within: Duration,
}

columns_of!(SqliteRow);

#[async_trait]
impl Database for File {
    type Transaction = Transaction<'static, Sqlite>;
    type Row = SqliteRow;

    const PURGE: [&'static str; 4] = [
        "DELETE FROM vorsel_feed WHERE place IN (SELECT place FROM vorsel_feed WHERE until < $1 LIMIT $2)",
        "DELETE FROM vorsel_taken WHERE id IN (SELECT id FROM vorsel_taken WHERE until < $1 LIMIT $2)",
        "UPDATE vorsel_sessions SET purge_at = idle_until WHERE idle_until >= $1 AND id IN
         (SELECT id FROM vorsel_sessions WHERE purge_at < $1 ORDER BY purge_at LIMIT $2)",
        "DELETE FROM vorsel_sessions WHERE idle_until < $1 AND id IN
         (SELECT id FROM vorsel_sessions WHERE purge_at < $1 ORDER BY purge_at LIMIT $2)",
    ];

    /// It takes its turn at once, so that nothing is read that another is about to change.
    async fn begin(&self) -> Result<Self::Transaction, sqlx::Error> {
        self.pool.begin_with("BEGIN IMMEDIATE").await
    }

    /// There is one writer at a time.
    async fn take_turn(&self, _: &mut Self::Transaction, _: Turn<'_>) -> Result<(), sqlx::Error> {
        Ok(())
    }

    async fn commit(&self, transaction: Self::Transaction) -> Result<(), sqlx::Error> {
        transaction.commit().await
    }

    async fn roll_back(&self, transaction: Self::Transaction) -> Result<(), sqlx::Error> {
        transaction.rollback().await
    }

    async fn run(
        &self,
        transaction: &mut Self::Transaction,
        statement: &'static str,
        values: &[Param<'_>],
    ) -> Result<Vec<SqliteRow>, sqlx::Error> {
        bound!(statement, values).fetch_all(&mut **transaction).await
    }

    async fn ask(&self, statement: &'static str, values: &[Param<'_>]) -> Result<Vec<SqliteRow>, sqlx::Error> {
        bound!(statement, values).fetch_all(&self.pool).await
    }

    async fn change(&self, statement: &'static str, values: &[Param<'_>]) -> Result<u64, sqlx::Error> {
        Ok(bound!(statement, values).execute(&self.pool).await?.rows_affected())
    }

    async fn end(&self, end: End<'_>) -> Result<Option<u64>, sqlx::Error> {
        end_in_a_transaction(self, self.begin().await?, end).await
    }

    async fn revoke(&self, entry: Entry<'_>) -> Result<(), sqlx::Error> {
        self.change(TELL, &columns(&entry)).await.map(drop)
    }

    /// SQLite wakes nobody in another process.
    async fn wake(&self, _: &mut Self::Transaction) -> Result<(), sqlx::Error> {
        Ok(())
    }

    async fn watch(&self) -> Result<Box<dyn FeedWatch>, StoreError> {
        Ok(Box::new(NowAndThen))
    }

    fn is_passing(error: &sqlx::Error) -> bool {
        is_busy(error) || matches!(error, sqlx::Error::PoolTimedOut)
    }

    fn answer_within(&self) -> Duration {
        self.answer_within
    }
}

#[async_trait]
impl WriteTogether for File {
    type Item = RenewalRow;
    type Outcome = Swapped;

    /// A file has one writer at a time.
    const AT_ONCE: usize = 1;
    const ACTION: &'static str = ADVANCE;

    fn are_alike(one: &RenewalRow, other: &RenewalRow) -> bool {
        one.is_of_the_generation_of(other)
    }

    fn like_another(_: Swapped) -> Swapped {
        Swapped::Lost
    }

    async fn write(&self, renewals: &[RenewalRow]) -> Result<Vec<Swapped>, StoreError> {
        within(self, ADVANCE, 1, self.advance_several(renewals)).await
    }
}

impl File {
    async fn advance_several(&self, renewals: &[RenewalRow]) -> Result<Vec<Swapped>, sqlx::Error> {
        if let [next] = renewals {
            return Ok(vec![advance_one(self, next).await?]);
        }
        let mut swap = QueryBuilder::<Sqlite>::new("WITH next (id, generation, began_at, idle_until, spent) AS (");
        swap.push_values(renewals, |mut row, next| {
            row.push_bind(&next.id)
                .push_bind(next.generation)
                .push_bind(next.began_at)
                .push_bind(next.idle_until)
                .push_bind(&next.spent[..]);
        });
        swap.push(
            ") UPDATE vorsel_sessions AS kept SET generation = next.generation, began_at = next.began_at,
                idle_until = next.idle_until, spent = next.spent
             FROM next WHERE kept.id = next.id AND kept.generation < next.generation AND kept.ended_at IS NULL
             AND kept.started_at >= (SELECT coalesce(max(before), -9223372036854775807) FROM vorsel_marks)
             RETURNING id, generation",
        );
        let rows = swap.build().fetch_all(&self.pool).await?;
        made_of(&rows, renewals)
    }
}

impl SqlStore for SqliteStore {
    type Database = File;

    fn database(&self) -> &File {
        &self.file
    }

    fn batcher(&self) -> &Batcher<File> {
        &self.batcher
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
