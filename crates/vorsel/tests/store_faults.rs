//! What the stores do when their server is in trouble. Each test has a server of its own, since it sets the server up.

use std::error::Error;
use std::time::{Duration, Instant};

use vorsel::store::{
    End, PostgresSettings, PostgresStore, RedisSettings, RedisStore, SessionStore, SqliteSettings, SqliteStore,
    StoreError, Which,
};
use vorsel::{
    EndReason, Ended, Generation, Revocation, Revoked, Session, SessionLimits, SessionSeed, SignIn, Timestamp, now,
};

#[path = "common/lines.rs"]
mod lines;
mod servers;
use lines::Lines;
use servers::{Kind, Server, start};

fn session(id: &str) -> Session {
    let seed = SessionSeed::new(id, [7; 32]);
    Session::begin(seed, SignIn::new("obs-0017", "desk"), &SessionLimits::default(), now())
}

fn end(id: &str) -> End<'_> {
    let ended = Ended { at: now(), why: EndReason::SignedOut };
    End { which: Which::One(id), ended, until: Timestamp::MAX }
}

/// What each call that writes says, of this session, which has to be there and not to have ended.
async fn written(store: &dyn SessionStore, id: &str) -> Vec<(&'static str, Result<(), StoreError>)> {
    let old = session(id);
    let next = Session { current: Generation { number: 1, ..old.current }, ..old.clone() };
    let revocation = Revocation { what: Revoked::Token("t1".to_owned()), until: Timestamp::MAX };
    vec![
        ("insert", store.insert(&session(&format!("s{:?}", Instant::now())), None).await.map(drop)),
        ("advance", store.advance(id, next.advance()).await.map(drop)),
        ("revoke", store.revoke(&revocation).await),
        ("end", store.end(end(id)).await.map(drop)),
    ]
}

/// Each call says that asking again may help.
async fn each_may_pass(store: &dyn SessionStore, trouble: &str) {
    for (call, answer) in written(store, "s1").await {
        let error = answer.expect_err("the server is in trouble");
        assert!(error.is_retryable(), "{trouble}: {call}: {error}: {:?}", error.source());
    }
}

async fn each_works(store: &dyn SessionStore) {
    let _kept = store.insert(&session("s2"), None).await;
    for (call, answer) in written(store, "s2").await {
        answer.unwrap_or_else(|error| panic!("{call}: {error}: {:?}", error.source()));
    }
}

async fn sql(url: &str, statements: &[&'static str]) {
    let pool = sqlx::PgPool::connect(url).await.expect("a pool");
    for statement in statements {
        sqlx::raw_sql(*statement).execute(&pool).await.expect(statement);
    }
    pool.close().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn errors_of_postgres_that_pass_say_so_and_it_works_again_without_a_restart() {
    let Some(server) = start(Kind::Postgres) else { return };
    let url = server.empty_database();
    let mut settings = PostgresSettings::default();
    settings.answer_within = Duration::from_millis(400);
    let store = PostgresStore::connect_with(&url, settings).await.expect("a store");
    let _kept = store.insert(&session("s1"), None).await.expect("insert");

    let pool = sqlx::PgPool::connect(&url).await.expect("a pool");
    let mut holder = pool.begin().await.expect("a transaction");
    let lock = "LOCK TABLE vorsel_sessions, vorsel_feed IN ACCESS EXCLUSIVE MODE";
    sqlx::query(lock).execute(&mut *holder).await.expect("a lock");
    let asked = Instant::now();
    each_may_pass(&store, "a lock").await;
    assert!(store.load("s1").await.expect_err("a lock").is_retryable());
    assert!(asked.elapsed() < Duration::from_secs(30), "each wait has an end");
    holder.rollback().await.expect("given back");
    each_works(&store).await;

    // What asks for it takes effect with the next connection, and what only reads is not kept.
    sql(&url, &["ALTER SYSTEM SET default_transaction_read_only = on", "SELECT pg_reload_conf()"]).await;
    tokio::time::sleep(Duration::from_millis(300)).await;
    each_may_pass(&store, "a server that only reads").await;
    let reset = ["ALTER SYSTEM RESET default_transaction_read_only", "SELECT pg_reload_conf()"];
    sql(&url, &reset).await;
    tokio::time::sleep(Duration::from_millis(300)).await;
    each_works(&store).await;

    sql(&url, &["SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE pid <> pg_backend_pid() AND backend_type = 'client backend'"]).await;
    each_works_soon(&store).await;
}

/// The first call may find that its connection is gone.
async fn each_works_soon(store: &dyn SessionStore) {
    for _ in 0..4 {
        let failed = written(store, "s1").await.into_iter().filter_map(|(_, answer)| answer.err()).collect::<Vec<_>>();
        assert!(failed.iter().all(StoreError::is_retryable), "{failed:?}");
        if failed.is_empty() {
            return;
        }
    }
    panic!("it does not work again");
}

#[tokio::test]
async fn a_role_that_may_make_no_tables_starts_on_finished_ones() {
    let Some(server) = start(Kind::Postgres) else { return };
    let url = server.empty_database();
    sql(&url, &["CREATE ROLE narrow LOGIN; REVOKE CREATE ON SCHEMA public FROM PUBLIC"]).await;
    let narrow = url.replace("hill@", "narrow@");
    let refused = PostgresStore::connect(&narrow).await.expect_err("no tables, and it may make none");
    let cause = refused.source().expect("a cause").to_string();
    assert!(cause.contains("permission denied") && !refused.is_retryable(), "{cause}");
    drop(PostgresStore::connect(&url).await.expect("a store"));
    sql(&url, &["GRANT SELECT, INSERT, UPDATE, DELETE ON ALL TABLES IN SCHEMA public TO narrow"]).await;
    let store = PostgresStore::connect(&narrow).await.expect("a store");
    let _kept = store.insert(&session("s1"), None).await.expect("insert");
    each_works(&store).await;
}

async fn tell(server: &Server, setting: &str, value: &str) {
    let client = redis::Client::open(format!("redis://127.0.0.1:{}/", server.port)).expect("an address");
    let mut connection = client.get_multiplexed_async_connection().await.expect("a connection");
    redis::cmd("CONFIG").arg("SET").arg(setting).arg(value).exec_async(&mut connection).await.expect("a setting");
}

#[tokio::test]
async fn errors_of_redis_that_pass_say_so_and_a_full_one_can_be_purged() {
    let Some(server) = start(Kind::Redis) else { return };
    let store = RedisStore::connect(&server.empty_database()).await.expect("a store");
    for number in 1..=40 {
        let _kept = store.insert(&session(&format!("s{number}")), None).await.expect("insert");
    }
    each_works(&store).await;
    for (setting, trouble, usual) in [("min-replicas-to-write", "1", "0"), ("maxmemory", "1", "0")] {
        tell(&server, setting, trouble).await;
        each_may_pass(&store, setting).await;
        if setting == "maxmemory" {
            let long_after = now().after(Duration::from_secs(400 * 86_400));
            // One of them can be renewed for longer, and keeps its place.
            assert_eq!(store.purge(long_after, 10).await.expect("room is made").sessions, 10);
        }
        tell(&server, setting, usual).await;
        let _kept = store.insert(&session(&format!("after-{setting}")), None).await.expect("insert");
    }
    let left = store.page(None, 100).await.expect("a page").len();
    assert_eq!(left, 40 + 1 + 2 - 10, "those of the test, one of a call that worked, and those after");
}

#[tokio::test]
async fn a_start_says_what_it_waits_for_and_what_the_server_would_forget() {
    let Some(server) = start(Kind::Redis) else { return };
    let lines = Lines::default();
    let _log = lines.collect();
    let logged = || lines.text();
    let url = server.empty_database();
    drop(RedisStore::connect(&url).await.expect("a store"));
    assert_eq!(logged(), "");
    tell(&server, "maxmemory-policy", "allkeys-lru").await;
    drop(RedisStore::connect(&url).await.expect("a store"));
    let warning = "expected maxmemory-policy noeviction, but found allkeys-lru";
    assert!(logged().contains(warning), "{}", logged());
    server.signal("STOP");
    let mut settings = RedisSettings::default();
    settings.connect_within = Duration::from_secs(3);
    let error = RedisStore::connect_with(&url, settings).await.expect_err("it stands still");
    server.signal("CONT");
    assert!(error.is_retryable() && logged().contains("still waiting for the session store's server"), "{}", logged());
}

#[tokio::test(flavor = "multi_thread")]
async fn a_file_that_another_process_writes_gives_an_answer_in_time() {
    let folder = tempfile::tempdir().expect("a folder");
    let path = folder.path().join("sessions.sqlite");
    let mut settings = SqliteSettings::default();
    (settings.wait_for_writer, settings.answer_within) = (Duration::from_millis(200), Duration::from_millis(300));
    let store = SqliteStore::open_with(&path, settings).await.expect("a store");
    let _kept = store.insert(&session("s1"), None).await.expect("insert");
    let options = sqlx::sqlite::SqliteConnectOptions::new().filename(&path);
    let pool = sqlx::SqlitePool::connect_with(options).await.expect("the file");
    let holder = pool.begin_with("BEGIN IMMEDIATE").await.expect("a turn");
    let asked = Instant::now();
    each_may_pass(&store, "another writer").await;
    assert!(asked.elapsed() < Duration::from_secs(30), "each wait has an end");
    assert!(store.load("s1").await.expect("whoever reads goes on").is_some());
    holder.rollback().await.expect("given back");
    each_works(&store).await;
}
