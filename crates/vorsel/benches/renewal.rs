//! Renewals a second on each store, against the bare write of one row on the same server, alone, together with the bare primitives
//! that a renewal needs, and together with those of them that are left where this instance made the token that is presented, by as many
//! tasks; and what a million other sessions change: `cargo bench -p vorsel --bench renewal`. PostgreSQL
//! and Redis are private servers, if installed.

use std::future::Future;
use std::num::NonZeroUsize;
use std::sync::Arc;
use std::time::{Duration, Instant};

use aws_lc_rs::signature::Ed25519KeyPair;
use aws_lc_rs::{hmac, rand};
use tokio::task::JoinSet;
use vorsel::store::{PostgresStore, RedisStore, SessionStore, SqliteStore};
use vorsel::{RenewalRequest, SignIn, TokenReply};

#[path = "../tests/common/mod.rs"]
mod common;
#[path = "../tests/servers/mod.rs"]
mod servers;
use common::{WINDOW, houses};
use servers::{Kind, start};

/// How many renew at once: as many as are given, or one after the other, [`USUAL`] and many.
fn at_once() -> Vec<usize> {
    let given: Vec<_> = std::env::args().skip(1).filter_map(|argument| argument.parse().ok()).collect();
    if given.is_empty() { vec![1, USUAL, 16] } else { given }
}

/// Two for each core.
const USUAL: usize = 4;

/// All stores if none is named.
fn asked_for(store: &str) -> bool {
    let mut names = std::env::args().skip(1).filter(|argument| argument.starts_with(char::is_alphabetic)).peekable();
    names.peek().is_none() || names.any(|name| name == store)
}

const BATCH: Duration = Duration::from_millis(300);
const PAIRS: usize = 15;
const MANY: u64 = 1_000_000;

/// How often a second all workers together do something, each what its function does with its own state.
async fn rate<S, F, R>(workers: &mut Vec<S>, work: F) -> f64
where
    S: Send + 'static,
    F: Fn(S) -> R + Clone + Send + 'static,
    R: Future<Output = S> + Send,
{
    let start = Instant::now();
    let mut running = JoinSet::new();
    for mut state in workers.drain(..) {
        let work = work.clone();
        running.spawn(async move {
            let mut count = 0_u32;
            while start.elapsed() < BATCH {
                state = work(state).await;
                count += 1;
            }
            (count, state)
        });
    }
    let mut total = 0;
    for (count, state) in running.join_all().await {
        total += count;
        workers.push(state);
    }
    f64::from(total) / start.elapsed().as_secs_f64()
}

fn median(mut values: Vec<f64>) -> f64 {
    values.sort_by(f64::total_cmp);
    values[values.len() / 2]
}

/// The bare write of one row.
#[derive(Clone)]
enum Bare {
    Sqlite(sqlx::SqlitePool),
    Postgres(sqlx::PgPool),
    Redis(redis::aio::ConnectionManager),
}

impl Bare {
    async fn write(&self, row: i64) {
        match self {
            Self::Sqlite(pool) => {
                let write = sqlx::query("UPDATE bare SET value = value + 1 WHERE id = ?").bind(row);
                write.execute(pool).await.expect("a write");
            }
            Self::Postgres(pool) => {
                let write = sqlx::query("UPDATE bare SET value = value + 1 WHERE id = $1").bind(row);
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

/// What a renewal does with keys: the presented token's HMAC is checked, and its `jti`, which is one under the session's secret, unless
/// this instance made it and knows it again; a `jti` and an HMAC for the new one, a random `jti` and a signature for the access token. The
/// texts are a session's own.
struct Primitives {
    refresh: hmac::Key,
    session: [u8; 32],
    access: Ed25519KeyPair,
    presented: String,
    tag: hmac::Tag,
    given: String,
}

impl Primitives {
    fn of(reply: &TokenReply) -> Self {
        let text = |token: &str| token.rsplit_once('.').expect("a signed token").0.to_owned();
        let (presented, given) = (text(&reply.refresh_token), text(&reply.access_token));
        let refresh = hmac::Key::new(hmac::HMAC_SHA256, &[1; 32]);
        let tag = hmac::sign(&refresh, presented.as_bytes());
        Self { refresh, session: [2; 32], access: Ed25519KeyPair::generate().expect("a key"), presented, tag, given }
    }

    fn done(&self, row: i64, checked: bool) -> usize {
        let jti = |generation: i64| {
            let secret = hmac::Key::new(hmac::HMAC_SHA256, &self.session);
            hmac::sign(&secret, &generation.to_be_bytes()).as_ref().len()
        };
        let mut found = 0;
        if checked {
            hmac::verify(&self.refresh, self.presented.as_bytes(), self.tag.as_ref()).expect("the token's own");
            found = jti(row);
        }
        let mut id = [0; 16];
        rand::fill(&mut id).expect("random bytes");
        let refresh = hmac::sign(&self.refresh, self.presented.as_bytes());
        let access = self.access.sign(self.given.as_bytes());
        // Shown, or the compiler finds that nobody reads them.
        let made = std::hint::black_box(&refresh).as_ref().len() + std::hint::black_box(&access).as_ref().len();
        std::hint::black_box(found + jti(row + 1) + made + usize::from(id[0]))
    }
}

/// Rates, and the ratios of renewals to both others.
#[derive(Clone, Copy)]
struct Rates {
    bare: f64,
    with_primitives: f64,
    renewed: f64,
    ratio: f64,
    ratio_with_primitives: f64,
    ratio_with_fewer: f64,
}

async fn compare(store: &Arc<dyn SessionStore>, bare: &Bare, workers: usize) -> Rates {
    let house = houses(store, 1, WINDOW).remove(0);
    let start = || house.sessions.start(SignIn::new("obs-0017", "desk"));
    let primitives = Arc::new(Primitives::of(&start().await.expect("a session")));
    let mut tokens = Vec::new();
    for _ in 0..workers {
        tokens.push(start().await.expect("a session").refresh_token);
    }
    let mut rows: Vec<i64> = (0..workers as i64).collect();
    let mut rounds = Vec::new();
    for _ in 0..PAIRS {
        let writes = |primitives: Option<Arc<Primitives>>, checked| {
            let writer = bare.clone();
            move |row| {
                let (writer, primitives) = (writer.clone(), primitives.clone());
                async move {
                    if let Some(primitives) = primitives {
                        primitives.done(row, checked);
                    }
                    writer.write(row).await;
                    row
                }
            }
        };
        let written = rate(&mut rows, writes(None, false)).await;
        let with_primitives = rate(&mut rows, writes(Some(primitives.clone()), true)).await;
        let with_fewer = rate(&mut rows, writes(Some(primitives.clone()), false)).await;
        let sessions = house.sessions.clone();
        let renewed = rate(&mut tokens, move |token| {
            let sessions = sessions.clone();
            async move { sessions.renew(&token, RenewalRequest::default()).await.expect("a successor").refresh_token }
        });
        rounds.push([written, with_primitives, with_fewer, renewed.await]);
    }
    let of = |which: fn(&[f64; 4]) -> f64| median(rounds.iter().map(which).collect());
    Rates {
        bare: of(|[bare, ..]| *bare),
        with_primitives: of(|[_, with, ..]| *with),
        renewed: of(|[.., renewed]| *renewed),
        ratio: of(|[bare, .., renewed]| renewed / bare),
        ratio_with_primitives: of(|[_, with, _, renewed]| renewed / with),
        ratio_with_fewer: of(|[_, _, fewer, renewed]| renewed / fewer),
    }
}

async fn report(name: &str, store: &Arc<dyn SessionStore>, bare: &Bare) {
    for workers in at_once() {
        let rates = compare(store, bare, workers).await;
        let Rates { bare, with_primitives, renewed, ratio, ratio_with_primitives, ratio_with_fewer } = rates;
        println!(
            "{name:<10} {workers:>2} at once: {bare:>7.0} bare writes/s, {with_primitives:>7.0}/s with the primitives, \
             {renewed:>7.0} renewals/s, ratio {ratio:.2} and {ratio_with_primitives:.2} (budget 0.8, for 16 the second), with the primitives \
             of a token made here {ratio_with_fewer:.2}"
        );
    }
}

fn report_many(name: &str, few: Rates, many: Rates) {
    // Each against its own baseline, so that a machine that is slower by now slows both.
    println!("{name:<10} with a million sessions: {:.2} times the cost (budget 1.5)", few.ratio / many.ratio);
}

async fn sqlite() {
    let folder = tempfile::tempdir().expect("a folder");
    let path = folder.path().join("sessions.sqlite");
    let store: Arc<dyn SessionStore> = Arc::new(SqliteStore::open(&path).await.expect("a store"));
    let options = sqlx::sqlite::SqliteConnectOptions::new()
        .filename(&path)
        .journal_mode(sqlx::sqlite::SqliteJournalMode::Wal)
        .synchronous(sqlx::sqlite::SqliteSynchronous::Full)
        .busy_timeout(Duration::from_secs(10));
    let pool = sqlx::sqlite::SqlitePoolOptions::new()
        .test_before_acquire(false)
        .max_connections(4)
        .connect_with(options)
        .await
        .expect("a pool");
    for statement in ["CREATE TABLE bare (id INTEGER PRIMARY KEY, value INTEGER NOT NULL)", BARE_ROWS] {
        sqlx::query(statement).execute(&pool).await.expect("rows");
    }
    let bare = Bare::Sqlite(pool.clone());
    report("SQLite", &store, &bare).await;
    let few = compare(&store, &bare, USUAL).await;
    let fill = "INSERT INTO vorsel_sessions SELECT lower(hex(randomblob(16))), 'obs-' || (value % 100000),
        1700000000000000 + value, $1, 0, 1700000000000000 + value, 1900000000000000 + value, x'', NULL, NULL,
        1900000000000000 + value
        FROM (WITH RECURSIVE n(value) AS (SELECT 1 UNION ALL SELECT value + 1 FROM n WHERE value < 1000000) SELECT value FROM n)";
    let filled = sqlx::query(fill).bind(facts(&*store).await).execute(&pool).await.expect("many sessions");
    assert_eq!(filled.rows_affected(), MANY);
    report_many("SQLite", few, compare(&store, &bare, USUAL).await);
}

/// The facts of a session, as they are stored.
async fn facts(store: &dyn SessionStore) -> Vec<u8> {
    store.page(None, 1).await.expect("a page")[0].facts.to_bytes().to_vec()
}

const BARE_ROWS: &str =
    "INSERT INTO bare VALUES (0, 0), (1, 0), (2, 0), (3, 0), (4, 0), (5, 0), (6, 0), (7, 0), (8, 0), (9, 0),
    (10, 0), (11, 0), (12, 0), (13, 0), (14, 0), (15, 0)";

async fn postgres() {
    let Some(server) = start(Kind::Postgres) else { return };
    let url = server.empty_database();
    let store: Arc<dyn SessionStore> = Arc::new(PostgresStore::connect(&url).await.expect("a store"));
    let pool = sqlx::postgres::PgPoolOptions::new()
        .test_before_acquire(false)
        .max_connections(16)
        .connect(&url)
        .await
        .expect("a pool");
    for statement in ["CREATE TABLE bare (id BIGINT PRIMARY KEY, value BIGINT NOT NULL)", BARE_ROWS] {
        sqlx::query(statement).execute(&pool).await.expect("rows");
    }
    let bare = Bare::Postgres(pool.clone());
    report("PostgreSQL", &store, &bare).await;
    let few = compare(&store, &bare, USUAL).await;
    let fill = "INSERT INTO vorsel_sessions SELECT md5(value::text), 'obs-' || (value % 100000),
        1700000000000000 + value, $1, 0, 1700000000000000 + value, 1900000000000000 + value, '', NULL, NULL,
        1900000000000000 + value FROM generate_series(1, 1000000) AS value";
    let filled = sqlx::query(fill).bind(facts(&*store).await).execute(&pool).await.expect("many sessions");
    assert_eq!(filled.rows_affected(), MANY);
    sqlx::query("ANALYZE vorsel_sessions").execute(&pool).await.expect("analysed");
    report_many("PostgreSQL", few, compare(&store, &bare, USUAL).await);
}

async fn redis_server() {
    let Some(server) = start(Kind::Redis) else { return };
    let url = server.empty_database();
    let store: Arc<dyn SessionStore> = Arc::new(RedisStore::connect(&url).await.expect("a store"));
    let client = redis::Client::open(url).expect("an address");
    let bare = Bare::Redis(client.get_connection_manager().await.expect("a connection"));
    report("Redis", &store, &bare).await;
}

fn main() {
    let threads = std::thread::available_parallelism().map_or(2, NonZeroUsize::get);
    println!("{threads} cores, every write durable");
    let runtime = tokio::runtime::Runtime::new().expect("a runtime");
    runtime.block_on(async {
        if asked_for("sqlite") {
            sqlite().await;
        }
        if asked_for("postgres") {
            postgres().await;
        }
        if asked_for("redis") {
            redis_server().await;
        }
    });
}
