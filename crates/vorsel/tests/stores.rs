//! The conformance suite over every store, and what SQLite promises besides.

use std::sync::Arc;

use vorsel::store::{Inserted, MemoryStore, PostgresStore, RedisStore, SessionStore, SqliteStore};
use vorsel::testing::store::every_rule;
use vorsel::{EndReason, Secret, Session, SessionLimits, Timestamp, now};

#[tokio::test(flavor = "multi_thread")]
async fn the_memory_store_keeps_its_contract() {
    every_rule(Arc::new(MemoryStore::new())).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn the_sqlite_store_keeps_its_contract() {
    let folder = tempfile::tempdir().expect("a folder");
    let store = SqliteStore::open(folder.path().join("sessions.sqlite")).await.expect("a store");
    every_rule(Arc::new(store)).await;
}

mod servers;
use servers::{Kind, shared};

#[tokio::test(flavor = "multi_thread")]
async fn the_postgres_store_keeps_its_contract() {
    let Some(server) = shared(Kind::Postgres) else { return };
    let store = PostgresStore::connect(&server.empty_database()).await.expect("a store");
    every_rule(Arc::new(store)).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn the_redis_store_keeps_its_contract() {
    let Some(server) = shared(Kind::Redis) else { return };
    let store = RedisStore::connect(&server.empty_database()).await.expect("a store");
    every_rule(Arc::new(store)).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn sessions_that_another_transaction_holds_keep_no_others_waiting() {
    let Some(server) = shared(Kind::Postgres) else { return };
    let url = server.empty_database();
    let store = PostgresStore::connect(&url).await.expect("a store");
    let sessions: Vec<_> = (0..6).map(|number| Session { id: format!("s{number}"), ..session() }).collect();
    for session in &sessions {
        let _kept = store.insert(session, None).await.expect("insert");
    }
    let pool = sqlx::PgPool::connect(&url).await.expect("a pool");
    let mut holder = pool.begin().await.expect("a transaction");
    sqlx::query("SELECT id FROM vorsel_sessions WHERE id IN ('s0', 's1') FOR UPDATE")
        .fetch_all(&mut *holder)
        .await
        .expect("rows");
    let advances = sessions.into_iter().map(|session| {
        let (store, next) = (store.clone(), Session { generation: 1, ..session });
        tokio::spawn(async move { store.advance(&next).await })
    });
    let mut advances: Vec<_> = advances.collect();
    let others = advances.split_off(2);
    for advance in others {
        assert!(advance.await.expect("no panic").expect("advance"));
    }
    assert!(advances.iter().all(|held| !held.is_finished()));
    holder.rollback().await.expect("given back");
    for held in advances {
        assert!(held.await.expect("no panic").expect("advance"));
    }
}

fn session() -> Session {
    Session::begin("s1", Secret::new(vec![7; 32]), "obs-0017", "desk", &SessionLimits::default(), now())
}

#[tokio::test(flavor = "multi_thread")]
async fn a_sqlite_file_is_opened_by_many_at_once_and_keeps_its_sessions() {
    for round in 0..20 {
        opened_by_many_at_once(round).await;
    }
}

async fn opened_by_many_at_once(round: u32) {
    let folder = tempfile::tempdir().expect("a folder");
    let path = folder.path().join(format!("sessions-{round}.sqlite"));
    let openings: Vec<_> = (0..8).map(|_| tokio::spawn(SqliteStore::open(path.clone()))).collect();
    let mut stores = Vec::new();
    for opening in openings {
        stores.push(opening.await.expect("no panic").expect("a store"));
    }
    let _kept = stores[0].insert(&session(), None).await.expect("insert");
    for store in &stores {
        assert!(store.load("s1").await.expect("load").is_some());
        store.close().await;
    }
    let again = SqliteStore::open(&path).await.expect("a store");
    assert_eq!(again.load("s1").await.expect("load").map(|session| session.generation), Some(0));
}

#[cfg(unix)]
#[tokio::test]
async fn a_new_sqlite_file_is_its_owners_alone() {
    use std::os::unix::fs::PermissionsExt;
    let folder = tempfile::tempdir().expect("a folder");
    let path = |name: &str| folder.path().join(name);
    let mode = |name: &str| std::fs::metadata(path(name)).expect("a file").permissions().mode() & 0o777;
    let store = SqliteStore::open(path("new.sqlite")).await.expect("a store");
    let _kept = store.insert(&session(), None).await.expect("insert");
    assert_eq!(["new.sqlite", "new.sqlite-wal", "new.sqlite-shm"].map(mode), [0o600; 3]);
    store.close().await;
    std::fs::set_permissions(path("new.sqlite"), PermissionsExt::from_mode(0o640)).expect("permissions");
    let store = SqliteStore::open(path("new.sqlite")).await.expect("a store");
    assert!(store.load("s1").await.expect("load").is_some());
    assert_eq!(mode("new.sqlite"), 0o640);
}

#[tokio::test]
async fn a_file_that_is_no_database_is_an_error_with_its_cause() {
    let folder = tempfile::tempdir().expect("a folder");
    let path = folder.path().join("sessions.sqlite");
    std::fs::write(&path, "this is not a database, and it is long enough to show it".repeat(40)).expect("a file");
    let error = SqliteStore::open(&path).await.expect_err("no database");
    let cause = std::error::Error::source(&error).expect("a cause").to_string();
    assert!(
        error.to_string().starts_with("the session store failed to") && cause.contains("not a database"),
        "{cause}"
    );
    assert!(SqliteStore::open(folder.path().join("missing/sessions.sqlite")).await.is_err());
}

/// The tables of version 0.1.0, before there was a feed.
const FIRST_RELEASE: [&str; 2] = [
    "CREATE TABLE vorsel_sessions (id TEXT PRIMARY KEY, subject TEXT NOT NULL, client_id TEXT NOT NULL, device TEXT,
     generation INTEGER NOT NULL, started_at INTEGER NOT NULL, renewed_at INTEGER NOT NULL, idle_until INTEGER NOT NULL,
     ends_at INTEGER NOT NULL, secret BLOB NOT NULL, ended_at INTEGER, ended_why TEXT) STRICT, WITHOUT ROWID",
    "CREATE INDEX vorsel_sessions_by_idle_until ON vorsel_sessions (idle_until)",
];

#[tokio::test]
async fn a_file_of_the_first_release_is_read_and_one_of_a_later_release_is_not_touched() {
    let folder = tempfile::tempdir().expect("a folder");
    let path = folder.path().join("sessions.sqlite");
    let options = sqlx::sqlite::SqliteConnectOptions::new().filename(&path).create_if_missing(true);
    let pool = sqlx::SqlitePool::connect_with(options).await.expect("a file");
    for statement in FIRST_RELEASE {
        sqlx::query(statement).execute(&pool).await.expect("a table");
    }
    let row = "INSERT INTO vorsel_sessions VALUES ('s1', 'obs-0017', 'desk', NULL, 3, 1, 2, 4000000000000000,
        4000000000000000, x'0707', NULL, NULL)";
    sqlx::query(row).execute(&pool).await.expect("a session");
    let store = SqliteStore::open(&path).await.expect("a store");
    let session = store.load("s1").await.expect("load").expect("the session");
    assert_eq!((session.generation, session.spent.len(), session.acr), (3, 0, None));
    assert_eq!(store.feed(None, 10).await.expect("a feed").entries, []);
    assert_eq!(store.purge(Timestamp::from_secs(3_000_000_000), 10).await.expect("purge"), 0);

    sqlx::query("PRAGMA user_version = 9").execute(&pool).await.expect("a version");
    let error = SqliteStore::open(&path).await.expect_err("a later release's");
    let cause = std::error::Error::source(&error).expect("a cause").to_string();
    assert_eq!(cause, "expected a schema of version 2 or before, but found 9");
}

/// A session as it stood in Redis before its generations were a line.
const FIRST_FORM: &str = "HSET vorsel:session:s1 subject obs-0017 client_id desk generation 3 started_at 1 renewed_at 2 \
    idle_until 4000000000000000 ends_at 4000000000000000 secret 77 spent xx";

#[tokio::test]
async fn sessions_of_the_first_form_in_redis_are_read_and_those_of_a_later_version_are_not_touched() {
    let Some(server) = shared(Kind::Redis) else { return };
    let url = server.empty_database();
    let client = redis::Client::open(url.clone()).expect("an address");
    let mut connection = client.get_multiplexed_async_connection().await.expect("a connection");
    let mut run = async |line: &str| {
        let mut words = line.split_ascii_whitespace();
        let mut command = redis::cmd(words.next().expect("a command"));
        for word in words {
            command.arg(word);
        }
        command.exec_async(&mut connection).await.expect("done");
    };
    run(FIRST_FORM).await;
    run(&FIRST_FORM.replace("s1", "s2")).await;
    run("HSET vorsel:session:s2 ended_at 5 ended_why signed-out").await;
    for id in ["s1", "s2"] {
        run(&format!("ZADD vorsel:ids 0 {id}")).await;
        run(&format!("ZADD vorsel:idle 4000000000000000 {id}")).await;
    }
    let stores = [RedisStore::connect(&url).await, RedisStore::connect(&url).await];
    let [store, again] = stores.map(|store| store.expect("a store"));
    let session = store.load("s1").await.expect("load").expect("the session");
    assert_eq!((session.generation, session.spent.len(), session.ended, &*session.subject), (3, 0, None, "obs-0017"));
    let ended = again.load("s2").await.expect("load").expect("the session").ended.expect("ended");
    assert_eq!((ended.at, ended.why), (Timestamp::from_micros(5), EndReason::SignedOut));
    let next = Session { generation: 4, ..session };
    assert!(store.advance(&next).await.expect("an answer"));
    assert!(!again.advance(&next).await.expect("an answer"));

    run("SET vorsel:schema 9").await;
    let error = RedisStore::connect(&url).await.expect_err("a later version's");
    let cause = std::error::Error::source(&error).expect("a cause").to_string();
    assert_eq!(cause, "expected a schema of version 2 or before, but found 9");
}

#[tokio::test]
async fn a_line_in_redis_stays_short_however_often_a_session_is_renewed() {
    let Some(server) = shared(Kind::Redis) else { return };
    let url = server.empty_database();
    let store = RedisStore::connect(&url).await.expect("a store");
    let mut session = session();
    assert!(matches!(store.insert(&session, None).await, Ok(Inserted::Kept { displaced: 0 })));
    for generation in 1..=500 {
        session.generation = generation;
        assert!(store.advance(&session).await.expect("an answer"));
    }
    let client = redis::Client::open(url).expect("an address");
    let mut connection = client.get_multiplexed_async_connection().await.expect("a connection");
    let length: usize = redis::cmd("XLEN").arg("vorsel:line:s1").query_async(&mut connection).await.expect("a length");
    assert!((33..200).contains(&length), "{length} entries");
    assert_eq!(store.load("s1").await.expect("load").expect("the session").spent.len(), Session::MOST_SPENT);
}

/// What a primary had not yet told its replica is missing after a fail-over; the instances still know it.
#[tokio::test]
async fn a_line_in_redis_with_a_gap_tells_of_the_generations_after_it() {
    let Some(server) = shared(Kind::Redis) else { return };
    let store = RedisStore::connect(&server.empty_database()).await.expect("a store");
    let mut session = session();
    assert!(matches!(store.insert(&session, None).await, Ok(Inserted::Kept { displaced: 0 })));
    for generation in [1, 2, 5, 6] {
        session.generation = generation;
        assert!(store.advance(&session).await.expect("an answer"), "{generation}");
    }
    for late in [0, 3, 5, 6] {
        session.generation = late;
        assert!(!store.advance(&session).await.expect("an answer"), "{late}");
    }
    let loaded = store.load(&session.id).await.expect("load").expect("the session");
    assert_eq!((loaded.generation, loaded.spent.len()), (6, 1));
}
