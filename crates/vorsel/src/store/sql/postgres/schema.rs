//! Where in a PostgreSQL database the tables are, and how they come to be there.

use sqlx::postgres::PgConnection;
use sqlx::{AssertSqlSafe, Executor, query, query_scalar, raw_sql};

use crate::store::contract::StoreError;
use crate::store::record::steps_left;

/// The steps from one version of the schema to the next; `vorsel_schema` says how many were taken. Times are
/// microseconds since 1970.
const MIGRATIONS: &[&[&str]] = &[
    &[
        "CREATE TABLE vorsel_sessions (
        id TEXT COLLATE \"C\" PRIMARY KEY,
        subject TEXT NOT NULL,
        started_at BIGINT NOT NULL,
        facts BYTEA NOT NULL,
        generation BIGINT NOT NULL,
        began_at BIGINT NOT NULL,
        idle_until BIGINT NOT NULL,
        spent BYTEA NOT NULL,
        ended_at BIGINT,
        ended_why TEXT,
        purge_at BIGINT NOT NULL
    ) WITH (fillfactor = 70)",
        "CREATE INDEX vorsel_sessions_by_subject ON vorsel_sessions (subject, started_at)",
        // No renewal changes what an index is of, so none of them has to write to one.
        "CREATE INDEX vorsel_sessions_by_purge_at ON vorsel_sessions (purge_at)",
        "CREATE TABLE vorsel_feed (
        place BIGINT GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
        kind TEXT NOT NULL,
        name TEXT NOT NULL,
        up_to BIGINT NOT NULL,
        until BIGINT NOT NULL
    )",
        "CREATE INDEX vorsel_feed_by_until ON vorsel_feed (until)",
    ],
    &["CREATE TABLE vorsel_marks (before BIGINT PRIMARY KEY, ended_at BIGINT NOT NULL, ended_why TEXT NOT NULL)"],
    &["CREATE TABLE vorsel_kept (name TEXT PRIMARY KEY, version BIGINT NOT NULL, bytes BYTEA NOT NULL)"],
    &[
        "CREATE TABLE vorsel_taken (id TEXT PRIMARY KEY, until BIGINT NOT NULL)",
        "CREATE INDEX vorsel_taken_by_until ON vorsel_taken (until)",
    ],
];

/// Locks of a transaction: "vors" in ASCII and what it is for.
const SCHEMA_LOCK: i64 = 0x766f_7273_0000_0001;
const FEED_LOCK: i64 = 0x766f_7273_0000_0002;
const CHANNEL: &str = "vorsel_feed";

/// The schema of one app, with what apps in one database must not share.
#[derive(Debug)]
pub(super) struct Schema {
    /// None for the first one in the search path.
    name: Option<String>,
    /// Whoever writes to the feed has it until the commit, so that places become visible in their order: else a reader could
    /// see a later one first, go on from there, and miss the earlier.
    pub(super) feed_lock: i64,
    /// Who follows the feed listens here.
    pub(super) channel: String,
}

impl Schema {
    pub(super) fn named(name: Option<String>) -> Result<Self, sqlx::Error> {
        let Some(name) = name else {
            return Ok(Self { name: None, feed_lock: FEED_LOCK, channel: CHANNEL.to_owned() });
        };
        if name.is_empty() || name.len() > 63 || name.contains(['"', '\0']) {
            let problem = format!("expected a schema of 1 to 63 bytes without quotes, but found {name:?}");
            return Err(sqlx::Error::Configuration(problem.into()));
        }
        // FNV-1a. Two names of one number would wait for each other's writes, and be woken by them; no more than that.
        let hash = name.bytes().fold(0x811c_9dc5_u32, |hash, byte| (hash ^ u32::from(byte)).wrapping_mul(0x0100_0193));
        let feed_lock = FEED_LOCK ^ i64::from(hash);
        Ok(Self { name: Some(name), feed_lock, channel: format!("{CHANNEL}_{hash:08x}") })
    }

    /// What makes a connection find the tables.
    pub(super) fn search(&self) -> String {
        self.name.as_ref().map_or_else(String::new, |name| format!("SET search_path TO \"{name}\"; "))
    }

    /// Makes it, if it is not there: a role that may not make any can have one of its own.
    async fn make(&self, connection: &mut PgConnection) -> Result<(), sqlx::Error> {
        let Some(name) = &self.name else { return Ok(()) };
        let found = query("SELECT 1 FROM pg_namespace WHERE nspname = $1").bind(name);
        if found.fetch_optional(&mut *connection).await?.is_none() {
            connection.execute(raw_sql(AssertSqlSafe(format!("CREATE SCHEMA \"{name}\"")))).await?;
        }
        Ok(())
    }
}

/// How many of the steps were taken.
pub(super) async fn version(connection: &mut PgConnection) -> Result<i64, sqlx::Error> {
    const FOUND: &str = "SELECT to_regclass('vorsel_schema') IS NOT NULL";
    if !query_scalar(FOUND).fetch_one(&mut *connection).await? {
        return Ok(0);
    }
    query_scalar("SELECT coalesce(max(version), 0) FROM vorsel_schema").fetch_one(connection).await
}

/// What is left to be done to the tables.
pub(super) fn left(version: i64) -> Result<Vec<&'static str>, StoreError> {
    Ok(steps_left(MIGRATIONS, version)?.concat())
}

/// Waits for a lock that lasts as long as the transaction.
pub(super) async fn lock(connection: &mut PgConnection, lock: i64) -> Result<(), sqlx::Error> {
    query("SELECT pg_advisory_xact_lock($1)").bind(lock).execute(connection).await.map(drop)
}

impl Schema {
    /// Brings the tables up to date, in a transaction; several instances may begin at once.
    pub(super) async fn bring_up_to_date(
        &self,
        connection: &mut PgConnection,
    ) -> Result<Result<(), StoreError>, sqlx::Error> {
        lock(connection, SCHEMA_LOCK).await?;
        self.make(connection).await?;
        connection.execute("CREATE TABLE IF NOT EXISTS vorsel_schema (version BIGINT NOT NULL)").await?;
        let left = match left(version(connection).await?) {
            Ok(left) => left,
            Err(later) => return Ok(Err(later)),
        };
        for statement in &left {
            connection.execute(*statement).await?;
        }
        if !left.is_empty() {
            let version = query("INSERT INTO vorsel_schema VALUES ($1)").bind(MIGRATIONS.len() as i64);
            version.execute(connection).await?;
        }
        Ok(Ok(()))
    }
}
