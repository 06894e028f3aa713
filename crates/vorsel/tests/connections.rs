//! Connections as teams have them: encrypted ones, several hosts, the app's own pool or client, two apps on one server.

use std::fs;
use std::path::{Path, PathBuf};
use std::process::Command;
use std::sync::Arc;

use rcgen::{BasicConstraints, CertificateParams, CertifiedIssuer, DnType, ExtendedKeyUsagePurpose, IsCa, KeyPair};
use vorsel::store::{
    Inserted, PostgresSettings, PostgresStore, RedisSettings, RedisStore, SessionStore, SqliteSettings, SqliteStore,
    StoreError,
};
use vorsel::testing::store::every_rule;
use vorsel::{Revocation, Revoked, Session, SessionLimits, SessionSeed, SignIn, Timestamp, now};

#[path = "common/lines.rs"]
mod lines;
mod servers;
use lines::Lines;
use servers::{Kind, free_port, shared, start, start_with};

/// The files of an authority, a server of the name `localhost`, the client `hill`, and another authority.
struct Files(PathBuf);

impl Files {
    fn made_in(folder: &Path) -> Self {
        let authority = |name: &str| {
            let mut parameters = CertificateParams::new([]).expect("parameters");
            parameters.distinguished_name.push(DnType::CommonName, name);
            parameters.is_ca = IsCa::Ca(BasicConstraints::Unconstrained);
            CertifiedIssuer::self_signed(parameters, KeyPair::generate().expect("a key")).expect("an authority")
        };
        let (ours, another) = (authority("ours"), authority("another"));
        let write = |name: &str, text: String| fs::write(folder.join(name), text).expect("a file");
        write("ours.pem", ours.pem());
        write("another.pem", another.pem());
        for (name, purpose) in
            [("localhost", ExtendedKeyUsagePurpose::ServerAuth), ("hill", ExtendedKeyUsagePurpose::ClientAuth)]
        {
            let mut parameters = CertificateParams::new([name.to_owned()]).expect("parameters");
            parameters.distinguished_name.push(DnType::CommonName, name);
            parameters.extended_key_usages = vec![purpose];
            let key = KeyPair::generate().expect("a key");
            write(&format!("{name}.pem"), parameters.signed_by(&key, &ours).expect("a certificate").pem());
            write(&format!("{name}-key.pem"), key.serialize_pem());
        }
        Self(folder.to_owned())
    }

    fn path(&self, name: &str) -> String {
        self.0.join(name).to_str().expect("a path in UTF-8").to_owned()
    }

    /// What an address says of the client and of whom it trusts.
    fn parameters(&self, roots: &str) -> String {
        let [roots, certificate, key] = [roots, "hill.pem", "hill-key.pem"].map(|name| self.path(name));
        format!("sslrootcert={roots}&sslcert={certificate}&sslkey={key}")
    }
}

fn cause(error: &StoreError) -> String {
    let mut cause: &dyn std::error::Error = error;
    while let Some(deeper) = cause.source() {
        cause = deeper;
    }
    cause.to_string()
}

async fn refused(store: impl Future<Output = Result<PostgresStore, StoreError>>, expected: &str) {
    let error = cause(&store.await.expect_err(expected));
    assert!(error.to_lowercase().contains(expected), "expected {expected}, but found {error}");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_postgres_server_is_spoken_to_in_private_and_both_sides_prove_who_they_are() {
    let folder = tempfile::tempdir().expect("a folder");
    let files = Files::made_in(folder.path());
    let Some(server) = start_with(Kind::Postgres, |cluster| encrypted_postgres(cluster, &files)) else { return };
    let port = server.port;
    let name = server.empty_database().rsplit_once('/').expect("a database").1.to_owned();
    let address = |host: &str, more: &str| format!("postgres://hill@{host}:{port}/{name}?{more}");
    let (ours, another) = (files.parameters("ours.pem"), files.parameters("another.pem"));

    let url = address("localhost", &format!("sslmode=verify-full&{ours}"));
    every_rule(Arc::new(PostgresStore::connect(&url).await.expect("a store"))).await;
    let by_number = |mode: &str| address("127.0.0.1", &format!("sslmode={mode}&{ours}"));
    assert!(PostgresStore::connect(&by_number("verify-ca")).await.is_ok());
    refused(PostgresStore::connect(&by_number("verify-full")), "not valid for name").await;
    let of_another = address("localhost", &format!("sslmode=verify-full&{another}"));
    refused(PostgresStore::connect(&of_another), "unknownissuer").await;
    refused(PostgresStore::connect(&address("localhost", "sslmode=disable")), "pg_hba.conf").await;
    let nameless = address("localhost", &format!("sslmode=verify-full&sslrootcert={}", files.path("ours.pem")));
    refused(PostgresStore::connect(&nameless), "certificate").await;

    let options: sqlx::postgres::PgConnectOptions = url.parse().expect("an address");
    let pool = sqlx::PgPool::connect_with(options).await.expect("a pool");
    let store = PostgresStore::from_pool(&pool, PostgresSettings::default()).await.expect("a store");
    assert!(matches!(store.insert(&session(), None).await, Ok(Inserted::Kept { displaced: 0 })));
    let plain: i64 = sqlx::query_scalar(
        "SELECT count(*) FROM pg_stat_ssl JOIN pg_stat_activity USING (pid) WHERE usename = 'hill' AND NOT ssl",
    )
    .fetch_one(&pool)
    .await
    .expect("a count");
    assert_eq!(plain, 0);
}

/// Databases are made in the open; what is in them is for encrypted connections of clients with a certificate.
fn encrypted_postgres(cluster: &Path, files: &Files) -> Vec<String> {
    let access = "hostnossl postgres hill 127.0.0.1/32 trust\nhostssl all hill 127.0.0.1/32 cert\n";
    fs::write(cluster.join("data/pg_hba.conf"), access).expect("a file");
    let owned = |name: &str| {
        let path = cluster.join(name);
        fs::copy(files.path(name), &path).expect("a copy");
        let path = path.to_str().expect("a path in UTF-8").to_owned();
        assert!(Command::new("chmod").args(["600", &path]).status().expect("chmod").success());
        if servers::is_root() {
            assert!(Command::new("chown").args(["postgres:", &path]).status().expect("chown").success());
        }
        path
    };
    let [certificate, key, authority] = ["localhost.pem", "localhost-key.pem", "ours.pem"].map(owned);
    let settings = ["ssl=on".to_owned(), format!("ssl_cert_file={certificate}"), format!("ssl_key_file={key}")];
    let settings = settings.into_iter().chain([format!("ssl_ca_file={authority}")]);
    settings.flat_map(|setting| ["-c".to_owned(), setting]).collect()
}

#[tokio::test(flavor = "multi_thread")]
async fn a_redis_server_is_spoken_to_in_private_and_both_sides_prove_who_they_are() {
    let (folder, port) = (tempfile::tempdir().expect("a folder"), free_port());
    let files = Files::made_in(folder.path());
    let arguments = |_: &Path| {
        let [certificate, key, authority] =
            ["localhost.pem", "localhost-key.pem", "ours.pem"].map(|name| files.path(name));
        let pairs = [
            ("--tls-port", port.to_string()),
            ("--tls-cert-file", certificate),
            ("--tls-key-file", key),
            ("--tls-ca-cert-file", authority),
            ("--tls-auth-clients", "yes".to_owned()),
        ];
        pairs.into_iter().flat_map(|(name, value)| [name.to_owned(), value]).collect()
    };
    let Some(_server) = start_with(Kind::Redis, arguments) else { return };
    let address = |host: &str, more: &str| format!("rediss://{host}:{port}/0?{more}");
    let (ours, another) = (files.parameters("ours.pem"), files.parameters("another.pem"));

    every_rule(Arc::new(RedisStore::connect(&address("localhost", &ours)).await.expect("a store"))).await;
    let alone = format!("sslrootcert={}", files.path("ours.pem"));
    for (url, expected) in [
        (address("127.0.0.1", &ours), "not valid for name"),
        (address("localhost", &another), "unknownissuer"),
        (address("localhost", ""), "unknownissuer"),
        (address("localhost", &alone), "certificate"),
        (address("localhost", &format!("sslcert={}", files.path("hill.pem"))), "sslcert and sslkey together"),
        (address("localhost", "sslrootcert=/nowhere/roots.pem"), "/nowhere/roots.pem: no such file"),
        (format!("redis://localhost:{port}/0?{ours}"), "expected rediss://"),
    ] {
        let error = RedisStore::connect(&url).await.expect_err(expected);
        let told = format!("{error}: {}", cause(&error)).to_lowercase();
        assert!(told.contains(expected), "expected {expected}, but found {told}");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn of_several_postgres_hosts_the_one_that_takes_writes_is_used() {
    let Some(server) = shared(Kind::Postgres) else { return };
    let (url, nowhere) = (server.empty_database(), free_port());
    let name = url.rsplit_once('/').expect("a database").1;
    let hosts = format!("127.0.0.1:{nowhere},127.0.0.1:{}", server.port);
    let address = |more: &str| format!("postgres://hill@{hosts}/{name}{more}");
    let store = PostgresStore::connect(&address("")).await.expect("a store");
    assert!(matches!(store.insert(&session(), None).await, Ok(Inserted::Kept { displaced: 0 })));
    let mut watch = store.watch().await.expect("a watch");
    store.revoke(&entry()).await.expect("an entry");
    watch.grown(None).await.expect("it has grown");

    let pool = sqlx::PgPool::connect(&url).await.expect("a pool");
    let only_reads = format!("ALTER DATABASE {name} SET default_transaction_read_only = on");
    sqlx::query(sqlx::AssertSqlSafe(only_reads)).execute(&pool).await.expect("a setting");
    refused(PostgresStore::connect(&address("")), "it only reads, as a standby does").await;
    assert!(PostgresStore::connect(&address("?target_session_attrs=primary")).await.is_ok());
}

/// As after a fail-over that the old primary has survived.
#[tokio::test]
async fn two_postgres_hosts_that_take_writes_are_told_of() {
    let Some((old, new)) = start(Kind::Postgres).zip(start(Kind::Postgres)) else { return };
    let lines = Lines::default();
    let _log = lines.collect();
    let address = format!("postgres://hill@127.0.0.1:{},127.0.0.1:{}/postgres", old.port, new.port);
    let any = PostgresStore::connect(&format!("{address}?target_session_attrs=any")).await.expect("a store");
    let store = PostgresStore::connect(&address).await.expect("a store");
    let soon = async |wanted: &str| {
        for _ in 0..300 {
            if lines.text().contains(wanted) {
                return true;
            }
            tokio::time::sleep(std::time::Duration::from_millis(100)).await;
        }
        false
    };
    let found = format!("but found 2: 127.0.0.1:{}, 127.0.0.1:{};", old.port, new.port);
    assert!(soon(&found).await, "{}", lines.text());
    old.signal("KILL");
    assert!(soon("no more than one host takes writes again").await, "{}", lines.text());
    assert_eq!(
        lines.text().matches("expected one host that takes writes").count(),
        1,
        "told once, and not where any will do"
    );
    drop((any, store));
}

/// Neither sessions nor the feed nor who waits for it.
#[tokio::test(flavor = "multi_thread")]
async fn apps_that_share_a_server_do_not_meet() {
    async fn apart(one: &dyn SessionStore, other: &dyn SessionStore) {
        for store in [one, other] {
            assert!(matches!(store.insert(&session(), None).await, Ok(Inserted::Kept { displaced: 0 })));
        }
        one.revoke(&entry()).await.expect("an entry");
        let lengths = [one, other].map(|store| async { store.feed(None, 10).await.expect("a page").entries.len() });
        let [one, other] = lengths;
        assert_eq!((one.await, other.await), (1, 0));
    }
    if let Some(server) = shared(Kind::Postgres) {
        let url = server.empty_database();
        let in_schema = async |name: Option<&str>| {
            let mut settings = PostgresSettings::default();
            settings.schema = name.map(str::to_owned);
            PostgresStore::connect_with(&url, settings).await
        };
        let [dome, spaced] = ["dome", "Night log"].map(Some);
        apart(&in_schema(dome).await.expect("a store"), &in_schema(spaced).await.expect("a store")).await;
        apart(&in_schema(None).await.expect("a store"), &in_schema(Some("third")).await.expect("a store")).await;
        assert!(in_schema(dome).await.expect("the same").load("s1").await.expect("load").is_some());
        refused(in_schema(Some("a\"b")), "expected a schema of 1 to 63 bytes without quotes").await;
    }
    if let Some(server) = shared(Kind::Redis) {
        let client = redis::Client::open(server.empty_database()).expect("an address");
        let with_prefix = async |prefix: &str| {
            let mut settings = RedisSettings::default();
            settings.prefix = prefix.to_owned();
            RedisStore::from_client(client.clone(), settings).await.expect("a store")
        };
        apart(&with_prefix("dome:").await, &with_prefix("hall:").await).await;
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_sqlite_store_lives_beside_the_apps_own_tables() {
    let folder = tempfile::tempdir().expect("a folder");
    let options = sqlx::sqlite::SqliteConnectOptions::new()
        .filename(folder.path().join("app.sqlite"))
        .create_if_missing(true)
        .synchronous(sqlx::sqlite::SqliteSynchronous::Full)
        .journal_mode(sqlx::sqlite::SqliteJournalMode::Wal);
    let pool = sqlx::SqlitePool::connect_with(options).await.expect("a file");
    sqlx::query("CREATE TABLE exposures (id TEXT)").execute(&pool).await.expect("a table");
    let store = SqliteStore::from_pool(pool.clone(), SqliteSettings::default()).await.expect("a store");
    every_rule(Arc::new(store)).await;
    sqlx::query("INSERT INTO exposures VALUES ('e1')").execute(&pool).await.expect("the table is there");
}

fn session() -> Session {
    Session::begin(SessionSeed::new("s1", [7; 32]), SignIn::new("obs-0017", "desk"), &SessionLimits::default(), now())
}

fn entry() -> Revocation {
    Revocation { what: Revoked::Token("t1".to_owned()), until: Timestamp::MAX }
}
