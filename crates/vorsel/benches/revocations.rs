//! What it costs to hold a token against everything that is revoked: `cargo bench -p vorsel --bench revocations`.

use std::hint::black_box;
use std::time::{Duration, Instant};

use vorsel::testing::TestIssuer;
use vorsel::{Checked, Checker, Clock, NoOwn, Revocation, Revocations, Revoked, now, random_id};

const ENTRIES: usize = 1_000_000;
/// Few enough that their claims are at hand, as they are when they were just checked.
const TOKENS: usize = 32;
const ROUNDS: usize = 10_000;

fn main() {
    let issuer = TestIssuer::new();
    let checker: Checker<NoOwn> = issuer.verifier().into();
    let checked: Vec<_> = (0..TOKENS)
        .map(|number| {
            let token = issuer.caller(&format!("obs-{number:04}")).session(&random_id().expect("randomness")).token();
            checker.check(token, issuer.clock().now()).expect("an accepted token")
        })
        .collect();
    // These themselves are never asked for, so nothing about their names is remembered.
    let as_new = || -> Vec<Checked> { checked.iter().map(|token| Checked::clone(token)).collect() };
    let seen = as_new();
    let (now, until) = (now(), now().after(Duration::from_secs(3_600)));
    let known = Revocations::new();
    let look = |tokens: &[Checked]| {
        let start = Instant::now();
        for token in tokens {
            let _stands = black_box(known.check(black_box(token), now));
        }
        start.elapsed() / TOKENS as u32
    };
    for entries in [0, 1_000, 100_000, ENTRIES] {
        let kinds =
            [Revoked::Session, Revoked::Token, |subject| Revoked::IssuedTo { subject, up_to: vorsel::Timestamp::MIN }];
        while known.len() < entries {
            let what = kinds[known.len() % kinds.len()](random_id().expect("randomness"));
            known.add(&Revocation { what, until });
        }
        if entries > 0 {
            known.add(&Revocation { what: Revoked::Key("another key".to_owned()), until });
        }
        let first = median((0..ROUNDS).map(|_| look(&as_new())));
        let again = median((0..ROUNDS).map(|_| look(&seen)));
        println!(
            "{entries:>9} entries (budget 100 ns): {again:?} for a token that is not revoked, {first:?} at its first request"
        );
    }
}

fn median(times: impl Iterator<Item = Duration>) -> Duration {
    let mut times: Vec<_> = times.collect();
    times.sort();
    times[times.len() / 2]
}
