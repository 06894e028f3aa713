//! The conformance suite over every store, and what SQLite promises besides.

use std::sync::Arc;

use vorsel::store::{
    Advanced, End, Inserted, MemoryStore, PostgresStore, RedisStore, SessionStore, SqliteStore, Which,
};
use vorsel::testing::store::every_rule;
use vorsel::{
    EndReason, Ended, Generation, Revocation, Revoked, Session, SessionLimits, SessionSeed, SignIn, Timestamp, now,
};

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
        let (store, next) = (store.clone(), in_generation(&session, 1));
        tokio::spawn(async move { store.advance(&next.id, next.advance()).await })
    });
    let mut advances: Vec<_> = advances.collect();
    let others = advances.split_off(2);
    for advance in others {
        assert_eq!(advance.await.expect("no panic").expect("advance"), Advanced::Made);
    }
    assert!(advances.iter().all(|held| !held.is_finished()));
    holder.rollback().await.expect("given back");
    for held in advances {
        assert_eq!(held.await.expect("no panic").expect("advance"), Advanced::Made);
    }
}

fn session() -> Session {
    let seed = SessionSeed::new("s1", [7; 32]);
    Session::begin(seed, SignIn::new("obs-0017", "desk"), &SessionLimits::default(), now())
}

fn in_generation(session: &Session, number: u64) -> Session {
    Session { current: Generation { number, ..session.current }, ..session.clone() }
}

async fn advance(store: &dyn SessionStore, session: &Session, number: u64) -> Advanced {
    let next = in_generation(session, number);
    store.advance(&next.id, next.advance()).await.expect("an answer")
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
    assert_eq!(again.load("s1").await.expect("load").map(|session| session.current.number), Some(0));
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

/// What the store has is there again, and no step that has been taken is taken again, however often it is opened; what a later
/// version has written is not touched.
#[tokio::test]
async fn a_store_is_opened_again_as_it_was_and_one_of_a_later_version_is_not_touched() {
    let later = |version| format!("expected a schema of version {version} or before, but found 9");
    let cause = |error: vorsel::store::StoreError| std::error::Error::source(&error).expect("a cause").to_string();

    let folder = tempfile::tempdir().expect("a folder");
    let path = folder.path().join("sessions.sqlite");
    let options = sqlx::sqlite::SqliteConnectOptions::new().filename(&path).create_if_missing(true);
    let _kept = SqliteStore::open(&path).await.expect("a store").insert(&session(), None).await.expect("insert");
    for _ in 0..3 {
        let store = SqliteStore::open(&path).await.expect("the same store");
        assert_eq!(store.load("s1").await.expect("load").map(|session| session.current.number), Some(0));
    }
    let pool = sqlx::SqlitePool::connect_with(options).await.expect("a file");
    sqlx::query("PRAGMA user_version = 9").execute(&pool).await.expect("a version");
    assert_eq!(cause(SqliteStore::open(&path).await.expect_err("a later version's")), later(4));

    if let Some(server) = shared(Kind::Postgres) {
        let url = server.empty_database();
        let _kept =
            PostgresStore::connect(&url).await.expect("a store").insert(&session(), None).await.expect("insert");
        let store = PostgresStore::connect(&url).await.expect("the same store");
        assert!(store.load("s1").await.expect("load").is_some());
        let pool = sqlx::PgPool::connect(&url).await.expect("a pool");
        let versions = sqlx::query("SELECT version FROM vorsel_schema").fetch_all(&pool).await.expect("versions");
        assert_eq!(versions.len(), 1, "the step is taken once");
        sqlx::query("INSERT INTO vorsel_schema VALUES (9)").execute(&pool).await.expect("a version");
        assert_eq!(cause(PostgresStore::connect(&url).await.expect_err("a later version's")), later(4));
    }
    if let Some(server) = shared(Kind::Redis) {
        let url = server.empty_database();
        let _kept = RedisStore::connect(&url).await.expect("a store").insert(&session(), None).await.expect("insert");
        let store = RedisStore::connect(&url).await.expect("the same store");
        assert!(store.load("s1").await.expect("load").is_some());
        let client = redis::Client::open(url.clone()).expect("an address");
        let mut connection = client.get_multiplexed_async_connection().await.expect("a connection");
        redis::cmd("SET").arg("vorsel:schema").arg(9).exec_async(&mut connection).await.expect("a version");
        assert_eq!(cause(RedisStore::connect(&url).await.expect_err("a later version's")), later(2));
    }
}

/// What a primary had not yet told its replica is missing after a fail-over; the instances still know it.
#[tokio::test]
async fn a_line_in_redis_with_a_gap_tells_of_the_generations_after_it() {
    let Some(server) = shared(Kind::Redis) else { return };
    let store = RedisStore::connect(&server.empty_database()).await.expect("a store");
    let session = session();
    assert!(matches!(store.insert(&session, None).await, Ok(Inserted::Kept { displaced: 0 })));
    for generation in [1, 2, 5, 6] {
        assert_eq!(advance(&store, &session, generation).await, Advanced::Made, "{generation}");
    }
    for late in [0, 3, 5, 6] {
        assert_eq!(advance(&store, &session, late).await, Advanced::Lost, "{late}");
    }
    let loaded = store.load(&session.id).await.expect("load").expect("the session");
    assert_eq!((loaded.current.number, loaded.spent.len()), (6, 1));
}

async fn asked<T: redis::FromRedisValue>(url: &str, command: &mut redis::Cmd) -> T {
    let client = redis::Client::open(url).expect("an address");
    let mut connection = client.get_multiplexed_async_connection().await.expect("a connection");
    command.query_async(&mut connection).await.expect("an answer")
}

/// A place that is taken in a session that was purged meanwhile is given back.
#[tokio::test]
async fn a_renewal_in_redis_brings_no_purged_session_back() {
    let Some(server) = shared(Kind::Redis) else { return };
    let url = server.empty_database();
    let store = RedisStore::connect(&url).await.expect("a store");
    let _kept = store.insert(&session(), None).await.expect("insert");
    let long_after = now().after(std::time::Duration::from_secs(400 * 86_400));
    assert_eq!(store.purge(long_after, 10).await.expect("purge").sessions, 1);
    assert_eq!(advance(&store, &session(), 1).await, Advanced::Lost);
    assert_eq!(store.load("s1").await.expect("load"), None);
    let mut keys: Vec<String> = asked(&url, redis::cmd("KEYS").arg("*")).await;
    keys.sort();
    assert_eq!(keys, ["vorsel:line:s1", "vorsel:schema"]);
    let seconds: i64 = asked(&url, redis::cmd("TTL").arg("vorsel:line:s1")).await;
    assert!((1..=600).contains(&seconds), "what keeps its place is gone after {seconds} s");
}

/// Two apps on one server do not meet, and what the first form of the sessions has is found in the present one.
#[tokio::test]
async fn sessions_of_the_first_form_in_redis_are_there_in_the_present_one() {
    let Some(server) = shared(Kind::Redis) else { return };
    let url = server.empty_database();
    let (facts, times) = (session().facts.to_bytes().to_vec(), ["began_at", "11", "idle_until", "9000000000000000"]);
    for id in ["s1", "s2"] {
        let (hash, line) = (format!("vorsel:session:{id}"), format!("vorsel:line:{id}"));
        let _: i64 =
            asked(&url, redis::cmd("HSET").arg(&hash).arg("subject").arg("obs-0017").arg("facts").arg(&facts)).await;
        for generation in 0..40 {
            let _: String = asked(&url, redis::cmd("XADD").arg(&line).arg(format!("{generation}-1")).arg(&times)).await;
        }
        let _: i64 = asked(&url, redis::cmd("ZADD").arg("vorsel:subject:obs-0017").arg(1).arg(id)).await;
        let _: i64 = asked(&url, redis::cmd("ZADD").arg("vorsel:ids").arg(0).arg(id)).await;
        let _: i64 = asked(&url, redis::cmd("ZADD").arg("vorsel:idle").arg(9_000_000_000_000_000_i64).arg(id)).await;
        let _: i64 = asked(&url, redis::cmd("ZADD").arg("vorsel:started").arg(1).arg(id)).await;
    }
    let end = ["ended_at", "77", "ended_why", "signed-out"];
    let _: String = asked(&url, redis::cmd("XADD").arg("vorsel:line:s2").arg("18446744073709551615-0").arg(&end)).await;
    let entry = ["kind", "session", "name", "s2 or another", "up_to", "0", "until", "9000000000000000"];
    let _: String = asked(&url, redis::cmd("XADD").arg("vorsel:feed").arg("*").arg(&entry)).await;
    let _: () = asked(&url, redis::cmd("SET").arg("vorsel:schema").arg(1)).await;

    let mut settings = vorsel::store::RedisSettings::default();
    settings.prefix = "another:".to_owned();
    let other = RedisStore::connect_with(&url, settings).await.expect("a store");
    assert_eq!(other.page(None, 10).await.expect("a page"), []);
    for _ in 0..2 {
        let store = RedisStore::connect(&url).await.expect("a store");
        let sessions = store.of_subject("obs-0017").await.expect("a list");
        let seen: Vec<_> = sessions
            .iter()
            .map(|session| (&session.id[..], session.current.number, session.spent.len(), session.ended.is_some()))
            .collect();
        assert_eq!(seen, [("s1", 39, 32, false), ("s2", 39, 32, true)]);
        assert_eq!(sessions[1].ended.map(|ended| (ended.at.as_micros(), ended.why.code())), Some((77, "signed-out")));
    }
    let store = RedisStore::connect(&url).await.expect("a store");
    assert_eq!(advance(&store, &session(), 40).await, Advanced::Made);
    let again = Revocation {
        what: Revoked::Session("s2 or another".to_owned()),
        until: Timestamp::from_micros(9_000_000_000_000_000),
    };
    store.revoke(&again).await.expect("an entry");
    assert_eq!(store.feed(None, 9).await.expect("a page").entries, [again.clone(), again]);
    let left: u64 = asked(&url, redis::cmd("EXISTS").arg("vorsel:started")).await;
    let purged = other.purge(Timestamp::MAX, 10).await.expect("purge");
    assert_eq!((left, purged.sessions, purged.entries), (0, 0, 0));
}

/// DESIGN.md's figures, with scopes and a device of 20 letters.
#[tokio::test]
async fn a_session_in_redis_costs_what_is_stated() {
    const COUNT: u64 = 2_000;
    let Some(server) = servers::start(Kind::Redis) else { return };
    let url = server.empty_database();
    let store = RedisStore::connect(&url).await.expect("a store");
    let memory = async || -> u64 {
        let told: String = asked(&url, redis::cmd("INFO").arg("memory")).await;
        let used = told.lines().find_map(|line| line.strip_prefix("used_memory:")).expect("a figure");
        used.trim().parse().expect("a number")
    };
    let before = memory().await;
    let scopes = vorsel::Scopes::parse("exposures:read logs:read").expect("scopes");
    let sessions: Vec<_> = (0..COUNT)
        .map(|number| {
            let seed = SessionSeed::new(format!("{number:022}"), [7; 32]);
            let sign_in =
                SignIn::new(format!("obs-{number:04}"), "desk").device("dome terminal number").scopes(scopes.clone());
            Session::begin(seed, sign_in, &SessionLimits::default(), now())
        })
        .collect();
    for session in &sessions {
        let _kept = store.insert(session, None).await.expect("insert");
    }
    let each = (memory().await - before) / COUNT;
    // As many as are remembered, since an allocator hands out more than it is asked for now and then.
    let line = async || -> u64 {
        asked(&url, redis::cmd("MEMORY").arg("USAGE").arg("vorsel:line:0000000000000000000001")).await
    };
    let first = line().await;
    for number in 1..=Session::MOST_SPENT as u64 {
        assert_eq!(advance(&store, &sessions[1], number).await, Advanced::Made);
    }
    let further = (line().await - first).div_ceil(Session::MOST_SPENT as u64);
    println!("{each} bytes a session, {further} for each further generation");
    assert!(each <= 1_000 && further <= 40, "{each} bytes a session, {further} for each further generation");
}

/// What is older than the spent generations is taken out some at a time; where some are missing or were left, the line comes to
/// be as long as others again.
#[tokio::test]
async fn a_line_in_redis_stays_short_however_often_a_session_is_renewed() {
    const LONGEST: u64 = Session::MOST_SPENT as u64 + 2 + 7;
    // The server's counts of commands are of this test alone.
    let Some(server) = servers::start(Kind::Redis) else { return };
    let url = server.empty_database();
    let store = RedisStore::connect(&url).await.expect("a store");
    let (seed, at) = (SessionSeed::new("s1", [7; 32]), now());
    let session = Session::begin(seed, SignIn::new("obs-0017", "desk"), &SessionLimits::default(), at);
    let _kept = store.insert(&session, None).await.expect("insert");
    let key = "vorsel:line:s1";
    let length = async || -> u64 { asked(&url, redis::cmd("HLEN").arg(key)).await };
    let looked = async || -> usize {
        let stats: String = asked(&url, redis::cmd("INFO").arg("commandstats")).await;
        let calls = stats.lines().find_map(|line| line.strip_prefix("cmdstat_hkeys:calls="));
        calls.map_or(0, |calls| calls.split(',').next().and_then(|calls| calls.parse().ok()).expect("a number"))
    };
    for number in 1..=100 {
        assert_eq!(advance(&store, &session, number).await, Advanced::Made, "{number}");
        let length = length().await;
        assert!(length <= LONGEST && (number >= 40 || length == number + 1), "{length} places after {number}");
    }
    assert_eq!(looked().await, 0, "a renewal looks at the whole line only where something is odd");
    // A gap in the middle, and some that a lost renewal was to take out.
    let lost: u64 = asked(&url, redis::cmd("HDEL").arg(key).arg(&[90, 96])).await;
    let left: u64 = asked(&url, redis::cmd("HSET").arg(key).arg(&[(1, "0 0"), (2, "0 0")])).await;
    assert_eq!((lost, left), (2, 2));
    for number in 101..=160 {
        assert_eq!(advance(&store, &session, number).await, Advanced::Made, "{number}");
        assert!(length().await <= LONGEST, "{} places after {number}", length().await);
    }
    let odd = looked().await;
    assert!(odd > 0);
    for number in 161..=180 {
        assert_eq!(advance(&store, &session, number).await, Advanced::Made, "{number}");
    }
    assert_eq!(looked().await, odd, "the line is as usual again");
    let loaded = store.load("s1").await.expect("a load").expect("a session");
    assert_eq!((loaded.current.number, loaded.spent.len()), (180, Session::MOST_SPENT));
    // A place behind the current one can't be taken, though it was lost.
    let lost: u64 = asked(&url, redis::cmd("HDEL").arg(key).arg(179)).await;
    assert_eq!(lost, 1);
    assert_eq!(advance(&store, &session, 179).await, Advanced::Lost);
}

/// Sign-outs that come at the same time are one statement, and none of them goes by another's luck: a session that somebody else
/// has locked, an id that no database takes, the same one twice.
#[tokio::test(flavor = "multi_thread")]
async fn ends_at_the_same_time_in_postgres_are_each_carried_out() {
    let Some(server) = shared(Kind::Postgres) else { return };
    let url = server.empty_database();
    let store = PostgresStore::connect(&url).await.expect("a store");
    let ids: Vec<_> = (0..100).map(|number| format!("s{number:02}")).collect();
    for id in &ids {
        let _kept = store.insert(&Session { id: id.clone(), ..session() }, None).await.expect("insert");
    }
    let pool = sqlx::PgPool::connect(&url).await.expect("a pool");
    let mut holder = pool.begin().await.expect("a transaction");
    let held = "SELECT id FROM vorsel_sessions WHERE id IN ('s07', 's70') FOR UPDATE";
    sqlx::query(held).fetch_all(&mut *holder).await.expect("rows");
    let until = now().after(std::time::Duration::from_secs(60));
    let end = |id: String| {
        let store = store.clone();
        let ended = Ended { at: now(), why: EndReason::SignedOut };
        tokio::spawn(async move { (id.clone(), store.end(End { which: Which::One(&id), ended, until }).await) })
    };
    let twice = ids.iter().chain(&ids).cloned().chain(["nobody".to_owned(), "nul\0".to_owned()]);
    let mut running: Vec<_> = twice.map(end).collect();
    tokio::time::sleep(std::time::Duration::from_secs(1)).await;
    // Each of these twice.
    assert_eq!(running.iter().filter(|end| !end.is_finished()).count(), 4);
    holder.rollback().await.expect("given back");
    let mut ended = Vec::new();
    for end in running.drain(..) {
        match end.await.expect("no panic") {
            (id, Ok(Some(1))) => ended.push(id),
            (id, answer) => assert!(id == "nul\0" || matches!(answer, Ok(Some(0))), "{id:?}: {answer:?}"),
        }
    }
    ended.sort();
    assert_eq!(ended, ids);
    let told = store.feed(None, 1_000).await.expect("a page").entries.len();
    assert_eq!(told, ids.len());
}
