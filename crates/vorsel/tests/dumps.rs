//! A copy of a store and of its logs lets nobody in: every string in it is tried as a token.

use std::collections::BTreeSet;
use std::fs;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use vorsel::store::{End, PostgresStore, RedisStore, SessionStore, SqliteStore, Which};
use vorsel::{RenewError, RenewalRequest, SignIn};

mod common;
mod servers;
use common::{WINDOW, houses};
use servers::{Kind, start};

/// Lives through a few sessions, live and ended ones; gives the house and the tokens it handed out.
async fn lived(store: &Arc<dyn SessionStore>) -> (common::House, Vec<String>) {
    let house = houses(store, 1, WINDOW).remove(0);
    let mut tokens = Vec::new();
    for device in ["dome terminal", "laptop", "tablet"] {
        let mut reply = house.sessions.start(SignIn::new("obs-0017", "desk").device(device)).await.expect("a session");
        for _ in 0..4 {
            tokens.extend([reply.access_token.clone(), reply.refresh_token.clone()]);
            let renewed = house.sessions.renew(&reply.refresh_token, RenewalRequest::default()).await;
            reply = renewed.expect("a successor");
        }
        tokens.extend([reply.access_token.clone(), reply.refresh_token.clone()]);
        if device == "tablet" {
            house.sessions.sign_out(&reply.refresh_token, None).await.expect("signed out");
        }
    }
    (house, tokens)
}

/// The strings of a file: runs of characters that a token may have.
fn strings(bytes: &[u8]) -> BTreeSet<String> {
    const SHORTEST: usize = 8;
    let is_token_character = |byte: &u8| byte.is_ascii_alphanumeric() || b"-_.=+/~".contains(byte);
    let runs = bytes.split(|byte| !is_token_character(byte)).filter(|run| run.len() >= SHORTEST);
    runs.map(|run| String::from_utf8_lossy(run).into_owned()).collect()
}

fn files(folder: &Path) -> Vec<PathBuf> {
    let entries = fs::read_dir(folder).expect("a folder").flatten().map(|entry| entry.path());
    entries.flat_map(|path| if path.is_dir() { files(&path) } else { vec![path] }).collect()
}

async fn lets_nobody_in(store: Arc<dyn SessionStore>, copied: impl FnOnce() -> Vec<u8>) {
    let (house, tokens) = lived(&store).await;
    let copy = copied();
    let session = &store.of_subject("obs-0017").await.expect("sessions")[0];
    let found = |text: &str| copy.windows(text.len()).any(|window| window == text.as_bytes());
    assert!(found(&session.id), "the copy is one of these sessions");
    for token in &tokens {
        let parts: Vec<_> = token.split('.').collect();
        assert!(!found(parts[1]) && !found(parts[2]), "a part of a token is in the copy");
    }
    let verifier = house.verifier();
    let strings = strings(&copy);
    assert!(strings.len() > 20, "{} strings", strings.len());
    for string in &strings {
        assert!(verifier.check(string, house.now()).is_err(), "{string} is an access token");
        let renewal = house.sessions.renew(string, RenewalRequest::default()).await;
        assert!(matches!(renewal, Err(RenewError::BadToken(_))), "{string} is a refresh token");
    }
    println!("{} strings tried", strings.len());
    let end = End { which: Which::One("nobody"), ended: ENDED, until: house.now() };
    assert_eq!(store.end(end).await.expect("still up"), Some(0));
}

const ENDED: vorsel::Ended = vorsel::Ended { at: common::START, why: vorsel::EndReason::SignedOut };

fn read_all(folder: &Path) -> Vec<u8> {
    files(folder).iter().filter_map(|path| fs::read(path).ok()).flatten().collect()
}

#[tokio::test(flavor = "multi_thread")]
async fn a_copy_of_a_sqlite_file_lets_nobody_in() {
    let folder = tempfile::tempdir().expect("a folder");
    let store = SqliteStore::open(folder.path().join("sessions.sqlite")).await.expect("a store");
    lets_nobody_in(Arc::new(store), || read_all(folder.path())).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_copy_of_a_postgres_database_and_its_log_lets_nobody_in() {
    let Some(server) = start(Kind::Postgres) else { return };
    let url = server.empty_database();
    let store = PostgresStore::connect(&url).await.expect("a store");
    let copied = || [server.dump(&url), server.log().into_bytes()].concat();
    lets_nobody_in(Arc::new(store), copied).await;
    assert!(server.log().contains("INSERT INTO vorsel_sessions"), "every statement was logged");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_copy_of_a_redis_server_s_files_and_its_log_lets_nobody_in() {
    let Some(server) = start(Kind::Redis) else { return };
    let store = RedisStore::connect(&server.empty_database()).await.expect("a store");
    lets_nobody_in(Arc::new(store), || read_all(server.folder())).await;
}
