//! The conformance suite over every store, and what SQLite promises besides.

use std::sync::Arc;

use vorsel::store::{MemoryStore, PostgresStore, RedisStore, SessionStore, SqliteStore};
use vorsel::testing::store::every_rule;
use vorsel::{Secret, Session, SessionLimits, now};

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
