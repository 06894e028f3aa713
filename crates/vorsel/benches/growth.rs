//! What many sessions cost: bytes each, and how long it takes to end everything, to list a subject and to purge, while
//! others renew: `cargo bench -p vorsel --bench growth -- [sqlite] [postgres] [redis] [COUNT]`, a hundred thousand if nothing
//! else is said. PostgreSQL and Redis are private servers, if installed.

use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::{Duration, Instant};

use tokio::task::JoinSet;
use vorsel::store::{End, PostgresStore, RedisStore, SessionStore, SqliteStore, Which};
use vorsel::{EndReason, Ended, Generation, Scopes, Session, SessionLimits, SessionSeed, SignIn, Timestamp, now};

#[path = "../tests/servers/mod.rs"]
mod servers;
use servers::{Kind, start};

const AT_ONCE: u64 = 64;
/// The sessions of each subject.
const OF_A_SUBJECT: u64 = 4;

fn session(number: u64) -> Session {
    let seed = SessionSeed::new(format!("{number:022}"), [7; 32]);
    let scopes = Scopes::parse("exposures:read logs:read").expect("scopes");
    let sign_in = SignIn::new(format!("obs-{:07}", number / OF_A_SUBJECT), "desk").device("dome terminal number");
    Session::begin(seed, sign_in.scopes(scopes), &SessionLimits::default(), now())
}

async fn fill(store: &Arc<dyn SessionStore>, count: u64) -> f64 {
    let (since, mut filling) = (Instant::now(), JoinSet::new());
    for first in 0..AT_ONCE {
        let store = store.clone();
        filling.spawn(async move {
            for number in (first..count).step_by(AT_ONCE as usize) {
                store.insert(&session(number), None).await.map(drop).expect("insert");
            }
        });
    }
    filling.join_all().await;
    count as f64 / since.elapsed().as_secs_f64()
}

/// Renews this session again and again; when each renewal was asked for and when it was there.
async fn renewing(store: Arc<dyn SessionStore>, number: u64, enough: Arc<AtomicBool>) -> Vec<(Instant, Instant)> {
    let (mut session, mut renewals) = (session(number), Vec::new());
    store.insert(&session, None).await.map(drop).expect("insert");
    while !enough.load(Ordering::Relaxed) {
        let current = Generation { number: session.current.number + 1, ..session.current };
        session = Session { current, ..session };
        let asked = Instant::now();
        let _made = store.advance(&session.id, session.advance()).await.expect("advance");
        renewals.push((asked, Instant::now()));
    }
    renewals
}

async fn measure(name: &str, store: Arc<dyn SessionStore>, count: u64, bytes: impl AsyncFn() -> u64) {
    let empty = bytes().await;
    let rate = fill(&store, count).await;
    let each = (bytes().await - empty) / count;
    println!("{name}: {count} sessions, {rate:.0} begun a second, {each} bytes each");

    let asked = Instant::now();
    assert_eq!(store.of_subject("obs-0000000").await.expect("a list").len(), OF_A_SUBJECT as usize);
    println!("{name}: list of a subject {:.1?}", asked.elapsed());

    let (enough, mut others) = (Arc::new(AtomicBool::new(false)), JoinSet::new());
    let moment = now();
    // They begin after the second of the moment.
    tokio::time::sleep(Duration::from_millis(1_100)).await;
    let begun = Instant::now();
    for number in 0..4 {
        others.spawn(renewing(store.clone(), count + 1 + number, enough.clone()));
    }
    tokio::time::sleep(Duration::from_secs(1)).await;
    let asked = Instant::now();
    let ended = Ended { at: now(), why: EndReason::Withdrawn };
    let until = Timestamp::from_secs(4_000_000_000);
    store.end(End { which: Which::StartedBefore(moment), ended, until }).await.expect("ended");
    let took = asked.elapsed();
    tokio::time::sleep(Duration::from_secs(1)).await;
    enough.store(true, Ordering::Relaxed);
    let renewals = others.join_all().await.concat();
    let seconds = begun.elapsed().as_secs_f64();
    let longest = |before: bool| {
        let those = renewals.iter().filter(|(_, there)| (*there < asked) == before);
        those.map(|(asked, there)| *there - *asked).max().unwrap_or_default()
    };
    let (before, since) = (longest(true), longest(false));
    assert!(store.load(&session(0).id).await.expect("load").expect("the session").ended.is_some());
    println!(
        "{name}: ended everything in {took:.1?} (budget 50 ms); beside it {:.0} renewals a second, the longest {since:.1?}, \
         of the second before {before:.1?}",
        renewals.len() as f64 / seconds
    );

    let (later, asked) = (now().after(Duration::from_secs(400 * 86_400)), Instant::now());
    let step = store.purge(later, 500).await.expect("purge").sessions;
    println!("{name}: {step} sessions purged in {:.1?}", asked.elapsed());
}

#[tokio::main]
async fn main() {
    let words: Vec<String> = std::env::args().skip(1).filter(|word| !word.starts_with("--")).collect();
    let count = words.iter().find_map(|word| word.parse().ok()).unwrap_or(100_000);
    let all = !words.iter().any(|word| word.starts_with(char::is_alphabetic));
    let asked = |name: &str| all || words.iter().any(|word| word == name);
    if asked("sqlite") {
        let folder = tempfile::tempdir().expect("a folder");
        let path = folder.path().join("sessions.sqlite");
        let store = SqliteStore::open(&path).await.expect("a store");
        measure("SQLite", Arc::new(store), count, async || std::fs::metadata(&path).expect("a file").len()).await;
    }
    if asked("postgres")
        && let Some(server) = start(Kind::Postgres)
    {
        let url = server.empty_database();
        let pool = sqlx::PgPool::connect(&url).await.expect("a pool");
        let size = async || {
            let asked = "SELECT pg_total_relation_size('vorsel_sessions')";
            sqlx::query_scalar::<_, i64>(asked).fetch_one(&pool).await.expect("a size") as u64
        };
        let store = PostgresStore::connect(&url).await.expect("a store");
        measure("PostgreSQL", Arc::new(store), count, size).await;
    }
    if asked("redis")
        && let Some(server) = start(Kind::Redis)
    {
        let url = server.empty_database();
        let client = redis::Client::open(url.clone()).expect("an address");
        let connection = client.get_multiplexed_async_connection().await.expect("a connection");
        let memory = async || {
            let told: String =
                redis::cmd("INFO").arg("memory").query_async(&mut connection.clone()).await.expect("figures");
            let used = told.lines().find_map(|line| line.strip_prefix("used_memory:")).expect("a figure");
            used.trim().parse().expect("a number")
        };
        let store = RedisStore::connect(&url).await.expect("a store");
        measure("Redis", Arc::new(store), count, memory).await;
    }
}
