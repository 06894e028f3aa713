//! What it takes to follow a feed over HTTP, against following the store itself: the whole state at first contact, one entry more, and
//! many followers at once. `cargo bench -p vorsel --all-features --bench feed -- [COUNT]`, a million entries if nothing is said.

use std::sync::Arc;
use std::time::{Duration, Instant};

use axum::Router;
use tokio::net::TcpListener;
use tokio::task::JoinSet;
use vorsel::endpoints::{Endpoint, Endpoints};
use vorsel::store::{MemoryStore, SessionStore};
use vorsel::{
    Client, ClientSecret, Clients, IssuerKeys, Lifetime, LiveRevocations, NoOwn, RemoteIssuer, Revocation, Revoked,
    Sessions, now, random_id,
};

#[path = "../tests/common/mod.rs"]
mod house;

const API: &str = "https://api.skarnhill.test";
const FOLLOWERS: usize = 64;
const ROUNDS: usize = 200;

fn entry(id: String) -> Revocation {
    Revocation { what: Revoked::Session(id), until: now().after(Lifetime::minutes(60).as_duration()) }
}

async fn serve(store: Arc<dyn SessionStore>, secret: &ClientSecret) -> (String, Arc<Sessions<NoOwn>>) {
    let clients = Clients::new([Client::with_secret("archive", secret.hash()).may_follow()]).expect("clients");
    let listener = TcpListener::bind("127.0.0.1:0").await.expect("a port");
    let base = format!("http://{}", listener.local_addr().expect("an address"));
    let sessions = Sessions::builder(&base, API)
        .keys(IssuerKeys::generate().expect("keys"))
        .revocations(LiveRevocations::follow(store.clone()).await.expect("a view"))
        .store(store)
        .clients(clients)
        .admission(Arc::new(house::Book::default()));
    let sessions = Arc::new(sessions.build().expect("sessions"));
    let endpoints = Endpoints::new(sessions.clone(), &base).with(Endpoint::Feed);
    let router: Router = endpoints.routes().expect("routes").into_unguarded_router();
    tokio::spawn(async move { axum::serve(listener, router).await });
    (base, sessions)
}

async fn follow(issuer: &RemoteIssuer, base: &str, secret: &ClientSecret) -> LiveRevocations {
    let feed = issuer.feed(format!("{base}/oauth/feed")).secret("archive", secret.reveal());
    let view = feed.follow().expect("a view");
    assert!(view.ready_within(Duration::from_secs(600)).await);
    view
}

async fn heard(view: &LiveRevocations, entry: &Revocation) {
    while !view.known().has(entry) {
        tokio::time::sleep(Duration::from_micros(200)).await;
    }
}

fn median(times: &mut [Duration]) -> (Duration, Duration) {
    times.sort();
    (times[times.len() / 2], times[times.len() - 1])
}

/// How long until each view knows an entry, from when it is written.
async fn noticed(store: &Arc<dyn SessionStore>, views: &[LiveRevocations]) -> (Duration, Duration) {
    let mut times = Vec::new();
    for _ in 0..ROUNDS {
        // Longer than followers wait after news.
        tokio::time::sleep(Duration::from_millis(60)).await;
        let entry = entry(random_id().expect("randomness"));
        let since = Instant::now();
        store.revoke(&entry).await.expect("an entry");
        let mut waiting = JoinSet::new();
        for view in views {
            let (view, entry) = (view.clone(), entry.clone());
            waiting.spawn(async move {
                heard(&view, &entry).await;
                since.elapsed()
            });
        }
        times.extend(waiting.join_all().await);
    }
    median(&mut times)
}

/// The same of every hundredth of the entries that are written one after the other.
async fn noticed_in_a_storm(store: &Arc<dyn SessionStore>, views: &[LiveRevocations]) -> (f64, Duration, Duration) {
    let (since, mut written, mut waiting) = (Instant::now(), 0_u32, JoinSet::new());
    while since.elapsed() < Duration::from_secs(5) {
        let entry = entry(random_id().expect("randomness"));
        let written_at = Instant::now();
        store.revoke(&entry).await.expect("an entry");
        written += 1;
        if written.is_multiple_of(100) {
            for view in views {
                let (view, entry) = (view.clone(), entry.clone());
                waiting.spawn(async move {
                    heard(&view, &entry).await;
                    written_at.elapsed()
                });
            }
        }
        tokio::time::sleep(Duration::from_micros(500)).await;
    }
    let rate = f64::from(written) / since.elapsed().as_secs_f64();
    let (middle, worst) = median(&mut waiting.join_all().await);
    (rate, middle, worst)
}

#[tokio::main]
async fn main() {
    let entries = std::env::args().skip(1).find_map(|text| text.parse().ok()).unwrap_or(1_000_000);
    let store: Arc<dyn SessionStore> = Arc::new(MemoryStore::new());
    for _ in 0..entries {
        store.revoke(&entry(random_id().expect("randomness"))).await.expect("an entry");
    }
    let secret = ClientSecret::generate().expect("randomness");
    let since = Instant::now();
    let direct = LiveRevocations::follow(store.clone()).await.expect("a view");
    let by_store = since.elapsed();
    let (base, sessions) = serve(store.clone(), &secret).await;
    let issuer = RemoteIssuer::builder(&base, API).follow().expect("an issuer");
    assert!(issuer.ready_within(Duration::from_secs(10)).await);
    let since = Instant::now();
    let remote = follow(&issuer, &base, &secret).await;
    let over_http = since.elapsed();
    assert_eq!(remote.known().len(), entries);
    println!(
        "{entries} entries at first contact: {by_store:.2?} from the store in memory, {over_http:.2?} over HTTP, signed and checked, ratio {:.2}",
        over_http.as_secs_f64() / by_store.as_secs_f64()
    );
    let (here, there) = (noticed(&store, &[direct]).await, noticed(&store, std::slice::from_ref(&remote)).await);
    println!(
        "one entry more: {:.1?} in the median, {:.1?} at worst; over HTTP {:.1?} and {:.1?}",
        here.0, here.1, there.0, there.1
    );
    drop(remote);
    let few: Arc<dyn SessionStore> = Arc::new(MemoryStore::new());
    let (base, others) = serve(few.clone(), &secret).await;
    let issuer = RemoteIssuer::builder(&base, API).follow().expect("an issuer");
    assert!(issuer.ready_within(Duration::from_secs(10)).await);
    let mut views = Vec::new();
    for _ in 0..FOLLOWERS {
        views.push(follow(&issuer, &base, &secret).await);
    }
    let many = noticed(&few, &views).await;
    println!("{FOLLOWERS} followers: {:.1?} in the median, {:.1?} at worst", many.0, many.1);
    let (rate, middle, worst) = noticed_in_a_storm(&few, &views).await;
    println!("{FOLLOWERS} followers, {rate:.0} revocations a second: {middle:.1?} in the median, {worst:.1?} at worst");
    let mut silent = Duration::ZERO;
    for _ in 0..100 {
        tokio::time::sleep(Duration::from_millis(100)).await;
        silent = views.iter().map(LiveRevocations::silent_for).fold(silent, Duration::max);
    }
    println!("with no news for 10 s a view may be {silent:.1?} behind at most, as far as it knows");
    drop((sessions, others));
}
