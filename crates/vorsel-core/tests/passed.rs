//! What a token's claims have passed before is remembered beside them. No decision is another for it, whatever came before:
//! other requests, other plans, other moments. And so is when they are beyond doubt.

use std::time::Duration;

use proptest::prelude::*;
use serde_json::json;
use vorsel_core::{
    AccessPlan, CallerFacts, Checked, Credential, Credentials, Expectations, KeySet, NoOwn, Proven, Timestamp, Verdict,
    Verifier,
};

mod common;
mod reference;
use common::{NOW, claims, header, secret, signed, verifier};
use reference::{PREDICATES, Somebody, plans, somebody};

/// Half of them twice, so that what is remembered is asked for.
const PATHS: [&str; 10] = ["/r/u", "/r/u", "/r/v", "/r/v", "/u/u", "/x/u", "/r/%75", "/r/%ff", "/r/v/w", "/elsewhere"];

/// One request, but for its caller's token.
#[derive(Clone, Debug)]
struct Asked {
    plan: usize,
    method: &'static str,
    path: &'static str,
    own_issuer: bool,
    key_client: Option<&'static str>,
    credentials: Credentials,
    answers: Vec<(String, bool)>,
    after: u64,
}

fn asked() -> impl Strategy<Value = Asked> {
    let brought = (
        proptest::bool::weighted(0.7),
        proptest::option::weighted(0.2, proptest::sample::select(&["u", "v"][..])),
        proptest::sample::subsequence(Credential::ALL.to_vec(), 1..=Credential::ALL.len()),
        proptest::collection::vec(any::<bool>(), 0..=PREDICATES.len()),
    );
    let request = (
        0..2_usize,
        proptest::sample::select(&["GET", "GET", "HEAD", "POST", "OPTIONS"][..]),
        proptest::sample::select(&PATHS[..]),
    );
    (request, brought, 0..30_u64).prop_map(|((plan, method, path), (own_issuer, key_client, kinds, answers), after)| {
        let credentials = kinds.into_iter().fold(Credentials::NONE, Credentials::with);
        let answers = PREDICATES.map(str::to_owned).into_iter().zip(answers).collect();
        Asked { plan, method, path, own_issuer, key_client, credentials, answers, after }
    })
}

/// Their token, checked; whoever lacks what every token has gets it.
fn checked(who: &Somebody) -> Checked<NoOwn> {
    let mut claims = who.claims(NOW);
    let issuer = claims.entry("iss".to_owned()).or_insert(json!("u")).as_str().expect("a text").to_owned();
    let every = json!({ "sub": "u", "client_id": "v", "aud": "a", "jti": "1", "iat": NOW.as_secs(), "exp": NOW.as_secs() + 60 });
    for (name, value) in every.as_object().expect("an object") {
        claims.entry(name.clone()).or_insert(value.clone());
    }
    let verifier = Verifier::new(KeySet::new([secret().verifying_key()]), Expectations::access(issuer, "a"));
    let token = signed(header().to_string(), json!(claims).to_string());
    verifier.check_as(&token, NOW).expect("an accepted token")
}

fn decided<'a>(plan: &AccessPlan, asked: &'a Asked, mut facts: CallerFacts<'a>) -> Verdict {
    facts.own_issuer = asked.own_issuer;
    facts.key_client = asked.key_client;
    facts.credentials = asked.credentials;
    facts.answers = &asked.answers;
    plan.decide(asked.method, asked.path, Some(facts), NOW.after(Duration::from_secs(asked.after)))
}

proptest! {
    #![proptest_config(ProptestConfig { failure_persistence: None, cases: 512, ..ProptestConfig::default() })]

    /// Left out: plans with more entries than are remembered at a time (below), and tokens that are checked anew.
    #[test]
    fn no_decision_is_another_for_what_was_passed_before(
        plans in (plans(4), plans(4)),
        who in somebody(),
        requests in proptest::collection::vec(asked(), 1..60),
    ) {
        // A rule that can't be true is a mistake.
        let (Ok(one), Ok(other)) = (plans.0.build(), plans.1.build()) else { return Ok(()) };
        let (plans, checked) = ([one, other], checked(&who));
        for asked in &requests {
            let plan = &plans[asked.plan];
            let remembered = decided(plan, asked, CallerFacts::from(&checked));
            prop_assert_eq!(remembered, decided(plan, asked, CallerFacts::from(checked.claims())), "{:?}", asked);
        }
    }
}

#[test]
fn entries_that_share_a_place_are_told_apart() {
    let mut plan = AccessPlan::builder().role("a", &[]).role("b", &[]);
    for number in 0..100 {
        plan = plan.need("GET", &format!("/{number}"), if number % 3 == 0 { "role a" } else { "role b" });
    }
    let plan = plan.build().expect("a plan");
    let caller = checked(&Somebody { roles: vec!["a".to_owned()], ..Somebody::default() });
    for round in 0..3 {
        for number in 0..100 {
            let verdict = plan.decide("GET", &format!("/{number}"), Some(CallerFacts::from(&caller)), NOW);
            assert_eq!(verdict == Verdict::Allowed, number % 3 == 0, "{number} in round {round}: {verdict:?}");
        }
    }
}

/// Every combination of times that are in a token or are not, around the moment; without a skew and with the default one.
#[test]
fn a_token_is_undoubted_only_where_its_verifier_accepts_it() {
    let now = NOW.as_secs();
    let allowing =
        Verifier::new(KeySet::new([secret().verifying_key()]), Expectations::access(common::ISSUER, common::AUDIENCE));
    let verifier = verifier();
    let times = [None, Some(now - 1), Some(now), Some(now + 1)];
    let (mut undoubted, mut accepted) = (0, 0);
    for each in 0..4_usize.pow(4) {
        let mut members = claims();
        members.as_object_mut().expect("an object").remove("iat");
        for (place, name) in ["exp", "nbf", "iat", "auth_time"].into_iter().enumerate() {
            if let Some(time) = times[each / 4_usize.pow(u32::try_from(place).expect("small")) % 4] {
                members[name] = time.into();
            }
        }
        let token = signed(header().to_string(), members.to_string());
        for asked in [now - 2, now - 1, now, now + 1, now + 101] {
            let asked = Timestamp::from_secs(asked);
            let anew = verifier.check(&token, asked);
            for seen in (now - 2..now + 2).map(|at| verifier.check(&token, Timestamp::from_secs(at))) {
                let Ok(seen) = seen else { continue };
                assert_eq!(verifier.check_again(&seen, Proven::Nothing, asked).is_ok(), anew.is_ok(), "{members}");
                assert!(!seen.is_undoubted(asked) || anew.is_ok(), "{members} at {asked}");
                undoubted += u32::from(seen.is_undoubted(asked));
                accepted += u32::from(anew.is_ok());
            }
            let Ok(seen) = allowing.check(&token, NOW) else { continue };
            let anew = allowing.check(&token, asked).is_ok();
            assert_eq!(allowing.check_again(&seen, Proven::Nothing, asked).is_ok(), anew, "{members} at {asked}");
            assert!(!seen.is_undoubted(asked) || anew, "{members} at {asked}");
        }
    }
    assert_eq!(undoubted, accepted, "without a skew, whatever is accepted is beyond doubt");
    assert!(undoubted > 100, "{undoubted}");
}
