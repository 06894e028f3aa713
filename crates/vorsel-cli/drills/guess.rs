//! Guessers are throttled, the owner still gets in, and neither they nor slow clients cost memory or hold others up.

use std::net::{IpAddr, Ipv4Addr};
use std::time::{Duration, Instant};

use reqwest::Client;
use serde_json::{Value, json};
use tokio::io::AsyncWriteExt;
use tokio::net::TcpStream;
use tokio::task::JoinSet;
use tokio::time::sleep;

use crate::instance::Instance;
use crate::{Outcome, Site};

const GUESSES: usize = 10_000;
const AT_ONCE: usize = 32;
/// What memory may grow by from the first thousand guesses to the last.
const FLAT_KIB: u64 = 8 * 1024;

/// A client at an address of its own.
fn from(last: u8) -> Client {
    let address = IpAddr::V4(Ipv4Addr::new(127, 0, 0, last));
    Client::builder().no_proxy().local_address(address).build().expect("a client")
}

async fn sign_in(client: &Client, base: &str, subject: &str, password: &str) -> (u16, Value) {
    let body = json!({ "client_id": "desk", "subject": subject, "password": password });
    let sent = client.post(format!("{base}/sign-in")).json(&body).send().await.expect("an answer");
    (sent.status().as_u16(), sent.json().await.unwrap_or_default())
}

/// Of the process, in KiB: `VmRSS` or, at its highest, `VmHWM`.
fn memory(instance: &Instance, what: &str) -> u64 {
    let status = std::fs::read_to_string(format!("/proc/{}/status", instance.id())).expect("its status");
    let line = status.lines().find(|line| line.starts_with(what)).expect("a line");
    line.split_whitespace().nth(1).and_then(|number| number.parse().ok()).expect("a number")
}

/// Guesses at the subject that `name` gives for each; how many were tried, how many throttled, and what memory grew by after the first
/// tenth of them.
async fn guess(instance: &Instance, last: u8, name: impl Fn(usize) -> String) -> (usize, usize, u64) {
    let (client, base) = (from(last), instance.base().to_owned());
    let (mut tried, mut throttled, mut at_first) = (0, 0, 0);
    for begin in (0..GUESSES).step_by(AT_ONCE) {
        let mut guesses = JoinSet::new();
        for number in begin..(begin + AT_ONCE).min(GUESSES) {
            let (client, base, subject) = (client.clone(), base.clone(), name(number));
            guesses.spawn(async move { sign_in(&client, &base, &subject, "a guess").await.0 });
        }
        for status in guesses.join_all().await {
            tried += usize::from(status == 400);
            throttled += usize::from(status == 429);
        }
        if begin <= GUESSES / 10 {
            at_first = memory(instance, "VmRSS");
        }
    }
    (tried, throttled, memory(instance, "VmRSS").saturating_sub(at_first))
}

pub(crate) async fn drill(store: &'static str) -> Option<Vec<Outcome>> {
    let site = Site::on(store).await?;
    let instance = site.instance();
    let base = instance.base().to_owned();
    let owner = from(1);
    let right = |subject: &str| format!("hill-{subject}");
    assert_eq!(sign_in(&owner, &base, "obs-0017", &right("obs-0017")).await.0, 200);
    let since = Instant::now();
    let (tried, throttled, grown) = guess(&instance, 2, |_| "obs-0017".to_owned()).await;
    let passed_for = since.elapsed().as_secs() / 60;
    let still = sign_in(&owner, &base, "obs-0017", &right("obs-0017")).await.0;
    let elsewhere = sign_in(&from(9), &base, "obs-0017", &right("obs-0017")).await.0;
    let mut outcomes = vec![Outcome {
        line: format!(
            "{store}: {GUESSES} guesses at one subject: {tried} tried, {throttled} throttled; the owner gets {still}, another \
             address {elsewhere}; memory grew by {grown} KiB"
        ),
        kept: tried as u64 <= 11 + passed_for
            && tried + throttled == GUESSES
            && (still, elsewhere) == (200, 429)
            && grown <= FLAT_KIB,
    }];
    let since = Instant::now();
    let (tried, throttled, grown) = guess(&instance, 3, |number| format!("nobody-{number}")).await;
    let passed_for = since.elapsed().as_secs() / 6;
    let other = sign_in(&owner, &base, "dir-0001", &right("dir-0001")).await.0;
    outcomes.push(Outcome {
        line: format!(
            "{store}: {GUESSES} subjects from one address: {tried} tried, {throttled} throttled; another address gets {other}; memory \
             grew by {grown} KiB"
        ),
        kept: tried as u64 <= 101 + passed_for && tried + throttled == GUESSES && other == 200 && grown <= FLAT_KIB,
    });
    outcomes.push(crowd(store, &site).await);
    outcomes.push(slow(store, &site).await);
    Some(outcomes)
}

/// The slowest of the answers on an open route while `going` is on.
async fn slowest_health(base: &str, going: impl Future<Output = ()>) -> Duration {
    let (client, url) = (from(1), format!("{base}/health"));
    let health = async {
        let mut slowest = Duration::ZERO;
        loop {
            let since = Instant::now();
            assert_eq!(client.get(&url).send().await.expect("an answer").status(), 200);
            slowest = slowest.max(since.elapsed());
            sleep(Duration::from_millis(5)).await;
            tokio::task::yield_now().await;
            SLOWEST.store(u64::try_from(slowest.as_micros()).unwrap_or(u64::MAX), std::sync::atomic::Ordering::Relaxed);
        }
    };
    tokio::select! {
        () = going => {}
        () = health => {}
    }
    Duration::from_micros(SLOWEST.load(std::sync::atomic::Ordering::Relaxed))
}

static SLOWEST: std::sync::atomic::AtomicU64 = std::sync::atomic::AtomicU64::new(0);

/// 250 right sign-ins at once, of ten people.
async fn crowd(store: &str, site: &Site) -> Outcome {
    const CROWD: usize = 250;
    const MOST_KIB: u64 = 200 * 1024;
    let instance = site.instance();
    let (base, mut statuses) = (instance.base().to_owned(), Vec::new());
    let slowest = slowest_health(&base, async {
        let (client, mut signing_in) = (from(1), JoinSet::new());
        for number in 0..CROWD {
            let subject = ["vis-0003", "obs-0017", "ope-0002", "dir-0001"][number % 4];
            let (client, base) = (client.clone(), base.clone());
            signing_in.spawn(async move { sign_in(&client, &base, subject, &format!("hill-{subject}")).await.0 });
        }
        statuses = signing_in.join_all().await;
    });
    let slowest = slowest.await;
    let peak = memory(&instance, "VmHWM");
    let [done, busy] = [200, 503].map(|status| statuses.iter().filter(|found| **found == status).count());
    Outcome {
        line: format!(
            "{store}: {CROWD} sign-ins at once: {done} done, {busy} told to come again; {} MiB at most; /health within {} ms",
            peak / 1024,
            slowest.as_millis()
        ),
        kept: done + busy == CROWD && done > 0 && peak <= MOST_KIB,
    }
}

/// 500 clients that send half a body, and 500 that send a byte a second.
async fn slow(store: &str, site: &Site) -> Outcome {
    const EACH: usize = 500;
    const MOST_KIB: u64 = 100 * 1024;
    let instance = site.instance();
    let base = instance.base().to_owned();
    let address = instance.address().to_owned();
    let head = "POST /oauth/token HTTP/1.1\r\nhost: hill\r\ncontent-type: application/x-www-form-urlencoded\r\n";
    let half = format!("{head}content-length: 30000\r\n\r\n{}", "x".repeat(15_000));
    let before = memory(&instance, "VmRSS");
    let mut open = 0;
    let slowest = slowest_health(&base, async {
        let mut slow = JoinSet::new();
        for number in 0..2 * EACH {
            let (address, text) = (address.clone(), if number < EACH { half.clone() } else { head.to_owned() });
            slow.spawn(async move {
                let mut stream = TcpStream::connect(address).await.expect("a connection");
                if number < EACH {
                    let _ = stream.write_all(text.as_bytes()).await;
                } else {
                    for byte in text.bytes().take(15) {
                        let _ = stream.write_all(&[byte]).await;
                        sleep(Duration::from_secs(1)).await;
                    }
                }
                // Closed by the other side by now, or not.
                sleep(Duration::from_secs(if number < EACH { 14 } else { 0 })).await;
                let mut rest = Vec::new();
                let ended = tokio::time::timeout(
                    Duration::from_secs(1),
                    tokio::io::AsyncReadExt::read_to_end(&mut stream, &mut rest),
                );
                ended.await.is_err()
            });
        }
        open = slow.join_all().await.into_iter().filter(|is_open| *is_open).count();
    });
    let slowest = slowest.await;
    let grown = memory(&instance, "VmHWM").saturating_sub(before);
    Outcome {
        line: format!(
            "{store}: {EACH} half-sent bodies and {EACH} clients of a byte a second: {open} still open after 15 s; memory grew by {} MiB; \
             /health within {} ms",
            grown / 1024,
            slowest.as_millis()
        ),
        kept: open == 0 && grown <= MOST_KIB,
    }
}
