//! What a decision of the access plan costs, match included, for plans of ten and of a thousand routes; and how often it
//! asks for memory. `cargo bench -p vorsel` prints the table.

use std::hint::black_box;
use std::time::{Duration, Instant};

use serde_json::json;
use vorsel::{
    AccessDraft, AccessPlan, Algorithm, Checked, Expectations, Issuer, KeySet, Lifetime, NoOwn, Scopes, SigningKey,
    Timestamp, Verdict, Verifier,
};

const NOW: Timestamp = Timestamp::from_secs(1_700_000_000);
const PAIRS: usize = 200;
const BATCH: Duration = Duration::from_millis(1);

/// Routes of five kinds of rule, as many as asked for.
fn plan(routes: usize) -> AccessPlan {
    let mut plan = AccessPlan::builder()
        .role("visitor", &[])
        .role("observer", &[])
        .role("operator", &["observer"])
        .role("director", &["operator"])
        .policy("crew", "role operator and scope dome:move and claims.training >= 3");
    for index in 0..routes / 5 {
        plan = plan
            .open("GET", &format!("/site-{index}/health"))
            .need("GET", &format!("/site-{index}/exposures/{{id}}"), "scope exposures:read")
            .need("POST", &format!("/site-{index}/dome"), "policy crew")
            .need("GET", &format!("/site-{index}/night-log"), "role observer and not role visitor")
            .need("GET", &format!("/site-{index}/observers/{{observer}}"), "path.observer == sub or role director");
    }
    plan.build().expect("a plan")
}

fn caller() -> Checked<NoOwn> {
    let key = SigningKey::generate(Algorithm::EdDsa).expect("a key");
    let verifier = Verifier::new(KeySet::new([key.verifying_key()]), Expectations::access("issuer", "audience"));
    let draft = AccessDraft::of("ope-0002")
        .audience("audience")
        .client("desk")
        .lasting(Lifetime::minutes(5))
        .roles(["operator"])
        .scopes(Scopes::parse("exposures:read dome:move").expect("scopes"))
        .own(json!({ "training": 3 }));
    let token = Issuer::new("issuer", key).access(&draft, "t1", NOW).expect("a token");
    verifier.check(token, NOW).expect("accepted")
}

/// Nanoseconds of one decision, over a batch.
fn time(plan: &AccessPlan, method: &str, path: &str, caller: &Checked<NoOwn>) -> f64 {
    let (start, mut count) = (Instant::now(), 0_u32);
    while start.elapsed() < BATCH {
        for _ in 0..100 {
            drop(black_box(plan.decide(black_box(method), black_box(path), Some(caller.claims().into()), NOW)));
        }
        count += 100;
    }
    start.elapsed().as_secs_f64() * 1e9 / f64::from(count)
}

fn median(mut values: Vec<f64>) -> f64 {
    values.sort_by(f64::total_cmp);
    values[values.len() / 2]
}

fn main() {
    let (small, large, caller) = (plan(10), plan(1_000), caller());
    println!(
        "{:<34}{:>10}{:>12}{:>8}{:>13}",
        "decision (budget 400 ns, 1.5×)", "10 routes", "1,000 routes", "ratio", "allocations"
    );
    for (method, path) in [
        ("GET", "health"),
        ("GET", "exposures/exp-101"),
        ("POST", "dome"),
        ("GET", "night-log"),
        ("GET", "observers/ope-0002"),
    ] {
        let [near, far] = ["/site-1/", "/site-157/"].map(|site| format!("{site}{path}"));
        assert!(matches!(
            large.decide(method, &far, Some(caller.claims().into()), NOW),
            Verdict::Allowed | Verdict::Open
        ));
        let allocations = allocation_counter::measure(|| {
            drop(black_box(large.decide(method, &far, Some(caller.claims().into()), NOW)));
        });
        // Both in turn, so that a busy machine slows both.
        let pairs: Vec<_> =
            (0..PAIRS).map(|_| (time(&small, method, &near, &caller), time(&large, method, &far, &caller))).collect();
        let few = median(pairs.iter().map(|(few, _)| *few).collect());
        let many = median(pairs.iter().map(|(_, many)| *many).collect());
        let ratio = median(pairs.iter().map(|(few, many)| many / few).collect());
        let name = format!("{method} {path}");
        println!("{name:<34}{few:>7.0} ns{many:>10.0} ns{ratio:>8.2}{:>13}", allocations.count_total);
    }
}
