//! What a token of another issuer costs that was seen before, against one of our own, by the same guard.
//! `cargo bench -p vorsel --bench several` prints the ratios; a second and a third issuer stand beside the first. And what an opaque token
//! costs whose issuer was asked a moment ago.

use std::hint::black_box;
use std::time::Instant;

use http::Request;
use vorsel::{
    AccessDraft, AccessPlan, Algorithm, Checker, Expectations, Guard, Introspection, IntrospectionLimits, Issuer,
    KeySet, Lifetime, NoOwn, SigningKey, Verifier,
};

const API: &str = "https://api.skarnhill.test";
const ROUNDS: usize = 200;
const BATCH: u32 = 2_000;

/// An issuer's checker, and a request with a token of its own.
fn issuer(name: &str) -> (Checker<NoOwn>, Request<()>) {
    let key = SigningKey::generate(Algorithm::EdDsa).expect("a key");
    let checker = Checker::new(KeySet::new([key.verifying_key()]), Expectations::access(name, API));
    let draft =
        AccessDraft::of("obs-0017").audience(API).client("desk").lasting(Lifetime::minutes(60)).roles(["observer"]);
    let token = Issuer::new(name, key).access(&draft, "t1", vorsel::now()).expect("a token");
    let request = Request::get("/dome").header("authorization", format!("Bearer {token}"));
    (checker, request.body(()).expect("a request"))
}

fn nanoseconds(guard: &Guard<NoOwn>, request: &Request<()>) -> f64 {
    let start = Instant::now();
    for _ in 0..BATCH {
        let decided = guard.decide(black_box(request), guard.now()).at_once().expect("at once");
        assert!(black_box(decided).is_ok());
    }
    start.elapsed().as_nanos() as f64 / f64::from(BATCH)
}

/// A guard that has asked about the request's opaque token.
async fn asked() -> (Guard<NoOwn>, Request<()>) {
    let answer =
        format!("{{\"active\":true,\"sub\":\"lab-7\",\"aud\":{API:?},\"exp\":{}}}", vorsel::now().as_secs() + 3_600);
    let listener = tokio::net::TcpListener::bind("127.0.0.1:0").await.expect("a port");
    let at = format!("http://{}/", listener.local_addr().expect("an address"));
    tokio::spawn(async move { axum::serve(listener, axum::Router::new().fallback(async || answer)).await });
    let mut limits = IntrospectionLimits::default();
    limits.kept = std::time::Duration::from_secs(3_600);
    let asked = Introspection::builder("https://id.lab.skarnhill.test", at, API).secret("archive", "s").limits(limits);
    let plan = AccessPlan::builder().need("GET", "/dome", "signed-in").build().expect("a plan");
    let ours = Verifier::new(KeySet::default(), Expectations::access("https://id.skarnhill.test", API));
    let guard = Guard::builder(ours, plan).introspect(asked.build().expect("an issuer")).build().expect("a guard");
    let request = Request::get("/dome").header("authorization", format!("Bearer {}", "x".repeat(43)));
    let request = request.body(()).expect("a request");
    assert!(guard.decide(&request, guard.now()).await.is_ok());
    (guard, request)
}

fn main() {
    let runtime = tokio::runtime::Runtime::new().expect("a runtime");
    let (asking, opaque) = runtime.block_on(asked());
    let plan =
        || AccessPlan::builder().role("observer", &[]).need("GET", "/dome", "role observer").build().expect("a plan");
    let names = ["https://id.skarnhill.test", "https://id.lab.skarnhill.test", "https://id.ridge.skarnhill.test"];
    let issuers = names.map(issuer);
    let alone = Guard::new(issuers[0].0.clone(), plan()).expect("a guard");
    let several = issuers[1..]
        .iter()
        .fold(Guard::builder(issuers[0].0.clone(), plan()), |guard, (checker, _)| guard.also(checker.clone()));
    let several = several.build().expect("a guard");
    let mut rows = [
        ("ours, no others", &alone, &issuers[0].1, Vec::new()),
        ("ours, beside two", &several, &issuers[0].1, Vec::new()),
        ("the second's", &several, &issuers[1].1, Vec::new()),
        ("the third's", &several, &issuers[2].1, Vec::new()),
        ("asked about before", &asking, &opaque, Vec::new()),
    ];
    for _ in 0..ROUNDS {
        for (_, guard, request, times) in &mut rows {
            times.push(nanoseconds(guard, request));
        }
    }
    let mut base = 0.0;
    for (what, _, _, times) in &mut rows {
        times.sort_by(f64::total_cmp);
        let median = times[times.len() / 2];
        if base == 0.0 {
            base = median;
        }
        let wanted = if what.starts_with("asked") { "at most 2000 ns" } else { "at most 1.10" };
        println!("{what:<20} {median:>7.0} ns  {:.2} of ours alone (wanted: {wanted})", median / base);
    }
}
