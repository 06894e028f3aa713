//! Several `vorsel serve` on one store: they act as one, whatever is killed, and each learns what another has ended.
#![cfg(unix)]

use std::collections::BTreeSet;
use std::net::SocketAddr;
use std::process::Command;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};
use std::time::{Duration, Instant};

use reqwest::Method;
use serde_json::Value;
use tempfile::TempDir;
use tokio::net::{TcpListener, TcpStream};
use tokio::task::JoinSet;
use tokio::time::sleep;
use vorsel::{AccessPlan, Guard, NoOwn, RemoteIssuer, WhenSilent};

#[path = "common/instance.rs"]
mod instance;
#[path = "../../vorsel/tests/servers/mod.rs"]
mod servers;
use instance::{Caller, Instance};
use servers::{Kind, Server};

/// A store of the test's own, and the keys of the instances on it.
struct Site {
    server: Option<Server>,
    store: String,
    folder: TempDir,
}

impl Site {
    /// Nothing if the server's program is not installed.
    fn on(kind: Option<Kind>) -> Option<Self> {
        let folder = tempfile::tempdir().expect("a folder");
        let (server, store) = match kind {
            None => (None, format!("sqlite:{}", folder.path().join("sessions.sqlite").display())),
            Some(kind) => {
                let server = servers::start(kind)?;
                let store = server.empty_database();
                (Some(server), store)
            }
        };
        Some(Self { server, store, folder })
    }

    fn instance(&self, more: &[&str]) -> Instance {
        self.instance_at("127.0.0.1:0", &self.store, more)
    }

    fn instance_at(&self, address: &str, store: &str, more: &[&str]) -> Instance {
        let keys = self.folder.path().join("keys").display().to_string();
        Instance::listening(address, &[&["--store", store, "--keys", &keys], more].concat())
    }
}

macro_rules! on_every_store {
    ($($test:ident)*) => {
        mod sqlite {
            $(#[tokio::test(flavor = "multi_thread")]
            async fn $test() { super::$test(super::Site::on(None).expect("a file")).await; })*
        }
        mod postgres {
            $(#[tokio::test(flavor = "multi_thread")]
            async fn $test() {
                if let Some(site) = super::Site::on(Some(super::Kind::Postgres)) { super::$test(site).await; }
            })*
        }
        mod redis {
            $(#[tokio::test(flavor = "multi_thread")]
            async fn $test() {
                if let Some(site) = super::Site::on(Some(super::Kind::Redis)) { super::$test(site).await; }
            })*
        }
    };
}

on_every_store! {
    sixty_four_renewals_at_once_in_two_processes_give_one_successor
    a_sign_out_is_noticed_by_every_instance
    a_sign_out_is_noticed_by_a_service_without_the_store
    nobody_is_signed_out_by_crashes_in_the_middle_of_renewals
}

async fn sixty_four_renewals_at_once_in_two_processes_give_one_successor(site: Site) {
    let instances = [site.instance(&[]), site.instance(&[])];
    let mut token = instances[0].caller().sign_in("obs-0017").await.1;
    for _ in 0..3 {
        let mut renewals = JoinSet::new();
        for number in 0..64 {
            let (caller, token) = (instances[number % 2].caller(), token.clone());
            renewals.spawn(async move { caller.renew(&token).await.expect("an answer") });
        }
        let mut successors = BTreeSet::new();
        for (status, reply) in renewals.join_all().await {
            assert_eq!(status, 200, "{reply}");
            successors.insert(reply["refresh_token"].as_str().expect("a token").to_owned());
        }
        assert_eq!(successors.len(), 1);
        token = successors.pop_first().expect("one");
    }
}

/// How long until an instance refuses a token.
async fn refused_after(caller: Caller, token: String, since: Instant) -> Duration {
    const AT_THE_LATEST: Duration = Duration::from_secs(30);
    while caller.status(Method::GET, "/me", &token).await.expect("an answer") != 401 {
        assert!(since.elapsed() < AT_THE_LATEST, "a token of an ended session is still accepted");
        sleep(Duration::from_millis(1)).await;
    }
    since.elapsed()
}

/// `cargo test -p vorsel-cli --test instances noticed -- --nocapture` prints the times.
async fn a_sign_out_is_noticed_by_every_instance(site: Site) {
    const ROUNDS: usize = 12;
    let instances = [(); 4].map(|()| site.instance(&[]));
    let mut times = Vec::new();
    for _ in 0..ROUNDS {
        let (access, refresh) = instances[0].caller().sign_in("obs-0017").await;
        for instance in &instances {
            let status = instance.caller().status(Method::GET, "/me", &access).await.expect("an answer");
            assert_eq!(status, 200, "and so it is a token seen before");
        }
        assert_eq!(instances[0].caller().revoke(&refresh).await.expect("an answer").0, 200);
        let since = Instant::now();
        let here = instances[0].caller().status(Method::GET, "/me", &access).await.expect("an answer");
        assert_eq!(here, 401, "the instance that was asked knows it when it answers");
        let mut others = JoinSet::new();
        for other in &instances[1..] {
            others.spawn(refused_after(other.caller(), access.clone(), since));
        }
        times.extend(others.join_all().await);
    }
    times.sort();
    let (median, worst) = (times[times.len() / 2], times[times.len() - 1]);
    println!("{}: noticed after {median:.1?} in the median, {worst:.1?} at worst", site.store);
}

/// A service that follows one instance over HTTP, and whose people sign out at another.
async fn a_sign_out_is_noticed_by_a_service_without_the_store(site: Site) {
    const ROUNDS: usize = 60;
    let instances = [site.instance(&[]), site.instance(&[])];
    let told_by = format!("http://{}", instances[1].address());
    let issuer = RemoteIssuer::builder("https://id.skarnhill.test", "https://api.skarnhill.test");
    let issuer = issuer.keys_at(format!("{told_by}/oauth/keys")).follow().expect("an issuer");
    let feed = issuer.feed(format!("{told_by}/oauth/feed")).secret("archive", ARCHIVE);
    let view = feed.follow().expect("a view");
    let within = Duration::from_secs(10);
    assert!(issuer.ready_within(within).await && view.ready_within(within).await);
    let plan = AccessPlan::builder().need("GET", "/plates", "signed-in").build().expect("a plan");
    let guard = Guard::<NoOwn>::builder(issuer, plan).revocations(view.clone(), within, WhenSilent::Refuse);
    let guard = guard.build().expect("a guard");
    let is_in = async |token: &str| {
        let request = http::Request::get("/plates").header("authorization", format!("Bearer {token}"));
        guard.decide(&request.body(()).expect("a request"), guard.now()).await.is_ok()
    };
    let (mut times, mut silent_for) = (Vec::new(), Duration::ZERO);
    for _ in 0..ROUNDS {
        let (access, refresh) = instances[0].caller().sign_in("obs-0017").await;
        assert!(is_in(&access).await, "and so it is a token seen before");
        // Somewhere within a poll that waits.
        sleep(Duration::from_millis(access.bytes().last().map_or(0, u64::from))).await;
        silent_for = silent_for.max(view.silent_for());
        assert_eq!(instances[0].caller().revoke(&refresh).await.expect("an answer").0, 200);
        let since = Instant::now();
        while is_in(&access).await {
            assert!(since.elapsed() < Duration::from_secs(30), "a token of an ended session is still accepted");
            sleep(Duration::from_millis(1)).await;
        }
        times.push(since.elapsed());
    }
    times.sort();
    let (median, worst) = (times[times.len() / 2], times[times.len() - 1]);
    println!(
        "{}: noticed without the store after {median:.1?} in the median, {worst:.1?} at worst; silent for {silent_for:.1?} at most",
        site.store
    );
}

/// The archive's secret, as the demo's `clients.toml` has it.
const ARCHIVE: &str = "aarOfyCLgl0cepfsi_doHjYM7H71jY8HGr0Xu0NEsfc";

const CLIENTS: usize = 100;
const RENEWALS: usize = 100;
/// Clients that hear nothing have this long to come again.
const WINDOW: &str = "120";

/// Renews again and again; after a failure with the same token, until an answer comes. Gives the last token.
async fn renew_all_along(callers: Vec<Caller>, mut token: String, done: Arc<AtomicUsize>, number: usize) -> String {
    for round in 0..RENEWALS {
        let mut attempt = number + round;
        token = loop {
            match callers[attempt % callers.len()].renew(&token).await {
                Ok((200, reply)) => break reply["refresh_token"].as_str().expect("a token").to_owned(),
                Ok((503, _)) | Err(_) => sleep(Duration::from_millis(50)).await,
                Ok((status, reply)) => panic!("renewal {round} of client {number} got {status}: {reply}"),
            }
            attempt += 1;
        };
        done.fetch_add(1, Ordering::Relaxed);
    }
    token
}

/// The store's server and an instance are killed in turn while 10,000 renewals are made.
async fn nobody_is_signed_out_by_crashes_in_the_middle_of_renewals(mut site: Site) {
    let mut instances = [(); 2].map(|()| site.instance(&["--retry-window", WINDOW]));
    let mut tokens = JoinSet::new();
    for _ in 0..CLIENTS {
        let caller = instances[0].caller();
        tokens.spawn(async move { caller.sign_in("obs-0017").await.1 });
    }
    let done = Arc::new(AtomicUsize::new(0));
    let mut clients = JoinSet::new();
    for (number, token) in tokens.join_all().await.into_iter().enumerate() {
        let callers = instances.iter().map(Instance::caller).collect();
        clients.spawn(renew_all_along(callers, token, done.clone(), number));
    }
    for (crash, share) in [20, 40, 60, 80].into_iter().enumerate() {
        while done.load(Ordering::Relaxed) < CLIENTS * RENEWALS * share / 100 {
            sleep(Duration::from_millis(5)).await;
        }
        match &mut site.server {
            Some(server) if crash % 2 == 0 => server.crash(),
            _ => {
                let victim = crash % 2;
                let address = instances[victim].address().to_owned();
                instances[victim].kill();
                instances[victim] = site.instance_at(&address, &site.store, &["--retry-window", WINDOW]);
            }
        }
    }
    let tokens = clients.join_all().await;
    assert_eq!(done.load(Ordering::Relaxed), CLIENTS * RENEWALS);
    for token in tokens {
        let (status, reply) = instances[0].caller().renew(&token).await.expect("an answer");
        assert_eq!(status, 200, "a token that a client was given is lost: {reply}");
    }
    let mut list = Command::new(env!("CARGO_BIN_EXE_vorsel"));
    list.args(["sessions", "list", "--json", "--store", &site.store]);
    let list: Value = serde_json::from_slice(&list.output().expect("the command runs").stdout).expect("JSON");
    let sessions = list["sessions"].as_array().expect("sessions");
    assert_eq!(sessions.len(), CLIENTS);
    for session in sessions {
        let state = (session["state"].as_str(), session["renewals"].as_u64());
        assert_eq!(state, (Some("live"), Some(RENEWALS as u64 + 1)), "one generation for each answer: {session}");
    }
}

/// A way to the database that can be cut.
struct Cable {
    address: SocketAddr,
    is_cut: Arc<AtomicBool>,
}

impl Cable {
    async fn to(port: u16) -> Self {
        let listener = TcpListener::bind("127.0.0.1:0").await.expect("a port");
        let (address, is_cut) = (listener.local_addr().expect("an address"), Arc::new(AtomicBool::new(false)));
        let cut = is_cut.clone();
        tokio::spawn(async move {
            while let Ok((mut near, _)) = listener.accept().await {
                let cut = cut.clone();
                tokio::spawn(async move {
                    if cut.load(Ordering::Relaxed) {
                        return;
                    }
                    let Ok(mut far) = TcpStream::connect(("127.0.0.1", port)).await else { return };
                    let broken = async {
                        while !cut.load(Ordering::Relaxed) {
                            sleep(Duration::from_millis(5)).await;
                        }
                    };
                    tokio::select! {
                        _ = tokio::io::copy_bidirectional(&mut near, &mut far) => {}
                        () = broken => {}
                    }
                });
            }
        });
        Self { address, is_cut }
    }
}

async fn a_cut_of_ten_seconds_loses_nothing(kind: Kind) {
    let Some(site) = Site::on(Some(kind)) else { return };
    let port = site.server.as_ref().expect("a server").port;
    let cable = Cable::to(port).await;
    let direct = site.instance(&[]);
    let through = site.store.replace(&format!(":{port}/"), &format!(":{}/", cable.address.port()));
    let cut_off = site.instance_at("127.0.0.1:0", &through, &[]);
    let mut signed_in = Vec::new();
    for _ in 0..5 {
        signed_in.push(direct.caller().sign_in("obs-0017").await);
    }
    let (director, _) = direct.caller().sign_in("dir-0001").await;
    cable.is_cut.store(true, Ordering::Relaxed);
    let since = Instant::now();
    sleep(Duration::from_millis(200)).await;
    for (access, refresh) in &signed_in[1..] {
        assert_eq!(direct.caller().revoke(refresh).await.expect("an answer").0, 200);
        let status = cut_off.caller().status(Method::GET, "/me", access).await.expect("an answer");
        assert_eq!(status, 200, "it cannot know, and this route goes on by what was known last");
    }
    let renewal = cut_off.caller().renew(&signed_in[0].1).await.expect("an answer");
    assert_eq!((renewal.0, renewal.1["error"].as_str()), (503, Some("temporarily_unavailable")));
    // A route that asks for current revocations closes.
    let give =
        async || cut_off.caller().status(Method::PUT, "/people/obs-0017/roles", &director).await.expect("an answer");
    sleep(Duration::from_millis(10_500).saturating_sub(since.elapsed())).await;
    assert_eq!(give().await, 503);
    cable.is_cut.store(false, Ordering::Relaxed);
    let since = Instant::now();
    for (access, _) in &signed_in[1..] {
        refused_after(cut_off.caller(), access.clone(), since).await;
    }
    println!("{kind:?}: the view was complete {:.1?} after the cut", since.elapsed());
    assert_ne!(give().await, 503);
    let renewal = cut_off.caller().renew(&signed_in[0].1).await.expect("an answer");
    assert_eq!(renewal.0, 200, "nothing was lost: {}", renewal.1);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_cut_of_ten_seconds_loses_nothing_on_postgres() {
    a_cut_of_ten_seconds_loses_nothing(Kind::Postgres).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_cut_of_ten_seconds_loses_nothing_on_redis() {
    a_cut_of_ten_seconds_loses_nothing(Kind::Redis).await;
}
