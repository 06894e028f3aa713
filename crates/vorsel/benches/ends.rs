//! What a feed of none, of some and of many entries costs an instance that starts; ends a second on it, with many at once, against
//! the bare write of one row, and how soon another instance notices: `cargo bench -p vorsel --bench ends [-- redis|postgres|sqlite]
//! [ENTRIES ...]`.

use std::sync::Arc;
use std::time::{Duration, Instant};

use tokio::task::JoinSet;
use vorsel::store::{PostgresStore, RedisStore, SessionStore, SqliteStore, Which};
use vorsel::{LiveRevocations, Revocation, Revoked, Session, SessionSeed, SignIn, now, random_id};

#[path = "../tests/common/mod.rs"]
mod common;
#[path = "../tests/servers/mod.rs"]
mod servers;
use common::{AUDIENCE, ISSUER, WINDOW, houses};
use servers::{Kind, start};

const AT_ONCE: usize = 64;
const ROUNDS: usize = 7;
const ENDS: usize = 2_000;

#[derive(Clone)]
enum Bare {
    Postgres(sqlx::PgPool),
    Sqlite(sqlx::SqlitePool),
    Redis(redis::aio::MultiplexedConnection),
}

impl Bare {
    async fn write(&self, row: usize) {
        match self {
            Self::Postgres(pool) => {
                let write = sqlx::query("UPDATE bare SET value = value + 1 WHERE id = $1").bind(row as i64);
                write.execute(pool).await.expect("a write");
            }
            Self::Sqlite(pool) => {
                let write = sqlx::query("UPDATE bare SET value = value + 1 WHERE id = ?").bind(row as i64);
                write.execute(pool).await.expect("a write");
            }
            Self::Redis(connection) => {
                let mut write = redis::cmd("HSET");
                write.arg(format!("bare:{row}")).arg("value").arg("something written");
                write.query_async::<()>(&mut connection.clone()).await.expect("a write");
            }
        }
    }
}

/// How many a second, if each of the workers takes its share one after the other.
async fn rate<F: Future<Output = ()> + Send>(
    count: usize,
    work: impl Fn(usize, usize) -> F + Clone + Send + 'static,
) -> f64 {
    let (start, mut running) = (Instant::now(), JoinSet::new());
    for worker in 0..AT_ONCE {
        let work = work.clone();
        running.spawn(async move {
            for number in (worker..count).step_by(AT_ONCE) {
                work(worker, number).await;
            }
        });
    }
    running.join_all().await;
    count as f64 / start.elapsed().as_secs_f64()
}

fn median<T: PartialOrd + Copy>(mut values: Vec<T>) -> T {
    values.sort_by(|one, other| one.partial_cmp(other).expect("numbers"));
    values[values.len() / 2]
}

async fn sessions_in(store: &dyn SessionStore) -> Arc<Vec<Session>> {
    let mut sessions = Vec::with_capacity(ENDS);
    for number in 0..ENDS {
        let seed = SessionSeed::new(random_id().expect("randomness"), [7; 32]);
        let sign_in = SignIn::new(format!("obs-{number:04}"), "desk");
        let session = Session::begin(seed, sign_in, &vorsel::SessionLimits::default(), now());
        store.insert(&session, None).await.map(drop).expect("insert");
        sessions.push(session);
    }
    Arc::new(sessions)
}

async fn ends(name: &str, store: Arc<dyn SessionStore>, other: Arc<dyn SessionStore>, bare: Bare) {
    let house = houses(&store, 1, WINDOW).remove(0);
    let view = LiveRevocations::follow(store.clone()).await.expect("a view");
    let sessions = vorsel::Sessions::builder(ISSUER, AUDIENCE).keys(house.sessions.keys().clone()).store(store.clone());
    let sessions = sessions.admission(house.book.clone()).revocations(view).build().expect("sessions");
    let elsewhere = LiveRevocations::follow(other).await.expect("a view");
    let (mut ratios, mut rates, mut bares, mut late) = (Vec::new(), Vec::new(), Vec::new(), Vec::new());
    for _ in 0..ROUNDS {
        let writer = bare.clone();
        let written = rate(ENDS, move |worker, _| {
            let writer = writer.clone();
            async move { writer.write(worker).await }
        });
        let written = written.await;
        let (live, ending, seen) = (sessions_in(&*store).await, sessions.clone(), elsewhere.clone());
        let watched = Arc::new(std::sync::Mutex::new(Vec::new()));
        let noted = watched.clone();
        let ended = rate(ENDS, move |_, number| {
            let (live, ending, seen, noted) = (live.clone(), ending.clone(), seen.clone(), noted.clone());
            async move {
                let (id, since) = (&live[number].id, Instant::now());
                assert_eq!(ending.end(Which::One(id)).await.expect("an end"), Some(1));
                if number % 64 == 0 {
                    let entry = Revocation { what: Revoked::Session(id.clone()), until: now() };
                    while !seen.known().has(&entry) {
                        tokio::time::sleep(Duration::from_millis(1)).await;
                    }
                    noted.lock().expect("no panic").push(since.elapsed());
                }
            }
        });
        let ended = ended.await;
        late.extend(watched.lock().expect("no panic").drain(..));
        ratios.push(ended / written);
        rates.push(ended);
        bares.push(written);
    }
    let budget = if name == "PostgreSQL" { " (budget 2)" } else { "" };
    println!(
        "{name:<10} {AT_ONCE} at once: {:>6.0} bare writes/s, {:>6.0} ends/s, ratio {:.2}{budget}; elsewhere after {:.1?} (budget 50 ms)",
        median(bares),
        median(rates),
        median(ratios),
        median(late),
    );
}

/// Memory of this process that is in use.
fn resident() -> f64 {
    let status = std::fs::read_to_string("/proc/self/statm").expect("statm");
    let pages: f64 = status.split(' ').nth(1).expect("pages").parse().expect("a number");
    pages * 4_096.0
}

async fn start_up(name: &str, store: Arc<dyn SessionStore>, entries: usize) {
    let (before, start) = (resident(), Instant::now());
    let view = LiveRevocations::follow(store).await.expect("a view");
    let took = start.elapsed();
    assert_eq!(view.known().len(), entries);
    let each = match entries {
        0 => String::new(),
        _ => format!(", {:.0} bytes each (budget 150)", (resident() - before) / entries as f64),
    };
    println!("{name:<10} a new instance with {entries} entries: ready after {took:.2?} (budget 3 s){each}");
}

const BARE_ROWS: &str = "INSERT INTO bare SELECT value, 0 FROM generate_series(0, 63) AS value";
const FILL: &str = "INSERT INTO vorsel_feed (kind, name, up_to, until)
    SELECT 'session', substr(md5(value::text), 1, 22), 0, 9000000000000000 FROM generate_series(1, $1) AS value";

async fn postgres(entries: usize) {
    let Some(server) = start(Kind::Postgres) else { return };
    let url = server.empty_database();
    let connect = async || Arc::new(PostgresStore::connect(&url).await.expect("a store"));
    let store = connect().await;
    let options = sqlx::postgres::PgPoolOptions::new().test_before_acquire(false).max_connections(AT_ONCE as u32);
    let pool = options.connect(&url).await.expect("a pool");
    for statement in ["CREATE TABLE bare (id BIGINT PRIMARY KEY, value BIGINT NOT NULL)", BARE_ROWS] {
        sqlx::query(statement).execute(&pool).await.expect("rows");
    }
    sqlx::query(FILL).bind(entries as i64).execute(&pool).await.expect("entries");
    start_up("PostgreSQL", store.clone(), entries).await;
    ends("PostgreSQL", store, connect().await, Bare::Postgres(pool)).await;
}

async fn sqlite(entries: usize) {
    let folder = tempfile::tempdir().expect("a folder");
    let path = folder.path().join("sessions.sqlite");
    let store = Arc::new(SqliteStore::open(&path).await.expect("a store"));
    let options = sqlx::sqlite::SqliteConnectOptions::new()
        .filename(&path)
        .synchronous(sqlx::sqlite::SqliteSynchronous::Full)
        .busy_timeout(Duration::from_secs(10));
    let pool = sqlx::SqlitePool::connect_with(options).await.expect("a pool");
    let numbers = "WITH RECURSIVE n(value) AS (SELECT 0 UNION ALL SELECT value + 1 FROM n WHERE value < $1)";
    for statement in [
        "CREATE TABLE bare (id INTEGER PRIMARY KEY, value INTEGER NOT NULL)",
        &format!("INSERT INTO bare SELECT value, 0 FROM ({numbers} SELECT value FROM n)"),
    ] {
        sqlx::query(sqlx::AssertSqlSafe(statement)).bind(63).execute(&pool).await.expect("rows");
    }
    let other = Arc::new(SqliteStore::open(&path).await.expect("a store"));
    let fill = format!(
        "INSERT INTO vorsel_feed (kind, name, up_to, until) SELECT 'session', 'session-with-22-' || (100000000 + value), 0,
         9000000000000000 FROM ({numbers} SELECT value FROM n) WHERE value < $1"
    );
    sqlx::query(sqlx::AssertSqlSafe(fill)).bind(entries as i64).execute(&pool).await.expect("entries");
    start_up("SQLite", store.clone(), entries).await;
    ends("SQLite", store, other, Bare::Sqlite(pool)).await;
}

async fn redis_server(entries: usize) {
    let Some(server) = start(Kind::Redis) else { return };
    let url = server.empty_database();
    let connect = async || Arc::new(RedisStore::connect(&url).await.expect("a store"));
    let store = connect().await;
    let client = redis::Client::open(url.clone()).expect("an address");
    let mut connection = client.get_multiplexed_async_connection().await.expect("a connection");
    for from in (0..entries).step_by(1_000) {
        let mut pipeline = redis::pipe();
        for number in from..(from + 1_000).min(entries) {
            let name = format!("session-with-22-{number:08}");
            let entry = format!("session 0 9000000000000000 {name}");
            pipeline.cmd("XADD").arg("vorsel:feed").arg("*").arg("").arg(entry).ignore();
        }
        pipeline.exec_async(&mut connection).await.expect("entries");
    }
    start_up("Redis", store.clone(), entries).await;
    ends("Redis", store, connect().await, Bare::Redis(connection)).await;
}

/// The part of a start that is no reading.
fn remembering(entries: usize) {
    let names: Vec<_> = (0..entries).map(|number| format!("session-with-22-{number:08}")).collect();
    let (known, start) = (vorsel::Revocations::new(), Instant::now());
    for name in names {
        known.add(&Revocation { what: Revoked::Session(name), until: vorsel::Timestamp::MAX });
    }
    println!("remembering {entries} entries alone takes {:.2?}", start.elapsed());
}

/// Each store in a process of its own, so that none has the memory that another has given back.
#[tokio::main]
async fn main() {
    let words: Vec<String> = std::env::args().skip(1).filter(|word| !word.starts_with("--")).collect();
    let mut given: Vec<usize> = words.iter().filter_map(|word| word.parse().ok()).collect();
    if given.is_empty() {
        given = vec![0, 100_000, 1_000_000];
    }
    let mut stores: Vec<&str> =
        words.iter().map(String::as_str).filter(|word| word.starts_with(char::is_alphabetic)).collect();
    if let ([entries], [store]) = (&given[..], &stores[..]) {
        match *store {
            "sqlite" => return sqlite(*entries).await,
            "postgres" => return postgres(*entries).await,
            "redis" => return redis_server(*entries).await,
            other => panic!("expected sqlite, postgres or redis, but found {other}"),
        }
    }
    if stores.is_empty() {
        stores = vec!["sqlite", "postgres", "redis"];
    }
    for entries in given {
        remembering(entries);
        for store in &stores {
            let this = std::env::current_exe().expect("this program");
            let status = std::process::Command::new(this).args([*store, &entries.to_string()]).status();
            assert!(status.expect("a process").success());
        }
    }
}
