//! Whatever text or number the public constructors are given: an error, not a panic. Left out are the readers whose bytes
//! the fuzzer makes (`tests/seeds.rs`), and the constructors that say of themselves that they panic.

use std::time::Duration;

use proptest::prelude::*;
use vorsel_core::rule::{Comparison, Operand, Rule, acr, claim, path, subject};
use vorsel_core::{
    AccessDraft, AccessPlan, Algorithm, Budget, Expectations, Issuer, KeySet, KeyTimes, Keyring, Lifetime, PathPattern,
    Revocation, Revocations, Revoked, Scopes, Secret, SigningKey, SupposedCaller, Timestamp, UncheckedToken,
};

/// Empty, long, joined and odd texts.
fn text() -> impl Strategy<Value = String> {
    let odd = [
        "", " ", "/", "//", "{", "}", "{}", "{{", "{x", "/{x}", "/{*}", "/{*r}/a", "%", "%f", "\0", "\u{202e}", "a.b",
        ".", "é",
    ];
    let odd = prop::sample::select(odd.to_vec()).prop_map(str::to_owned);
    prop_oneof![
        odd.clone(),
        ".{0,40}",
        "[a-z/{}*.%]{0,60}",
        (odd, 0..300_usize).prop_map(|(text, times)| text.repeat(times))
    ]
}

fn span() -> impl Strategy<Value = Duration> {
    prop_oneof![
        Just(Duration::ZERO),
        Just(Duration::MAX),
        Just(Duration::from_nanos(1)),
        any::<u64>().prop_map(Duration::from_secs),
        (0..10_000_u64).prop_map(Duration::from_millis),
    ]
}

fn moment() -> impl Strategy<Value = Timestamp> {
    prop_oneof![
        Just(Timestamp::MIN),
        Just(Timestamp::MAX),
        any::<i64>().prop_map(Timestamp::from_micros),
        any::<i64>().prop_map(Timestamp::from_secs),
        any::<f64>().prop_map(Timestamp::from_secs_f64),
    ]
}

fn operand() -> impl Strategy<Value = Operand> {
    prop_oneof![
        Just(subject()),
        Just(acr()),
        text().prop_map(|text| claim(&text)),
        Just(Operand::Claim(Vec::new())),
        text().prop_map(path),
        text().prop_map(Operand::from),
        any::<i64>().prop_map(Operand::from),
        any::<f64>().prop_map(Operand::from),
    ]
}

fn rule() -> impl Strategy<Value = Rule> {
    let comparison =
        prop::sample::select(vec![Comparison::Equal, Comparison::Unequal, Comparison::Less, Comparison::AtLeast]);
    prop_oneof![
        (operand(), comparison, operand()).prop_map(|(left, by, right)| Rule::Compare(left, by, right)),
        (operand(), text()).prop_map(|(operand, text)| Rule::In(operand, vec![text.into()])),
        operand().prop_map(|operand| Rule::In(operand, Vec::new())),
        (operand(), any::<f64>()).prop_map(|(operand, number)| Rule::Contains(operand, number.into())),
        span().prop_map(Rule::SignedInWithin),
        Just(Rule::All(Vec::new())),
        Just(!Rule::Any(Vec::new())),
    ]
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 1_500, failure_persistence: None, ..ProptestConfig::default() })]

    #[test]
    fn plans_are_built_or_refused(names in prop::collection::vec(text(), 6), rule in rule(), steps: u64) {
        let [role, policy, method, path, scope, ask] = [0, 1, 2, 3, 4, 5].map(|at| names[at].as_str());
        let plan = AccessPlan::builder()
            .budget(Budget::steps(steps % 100_000))
            .role(role, &[policy, role])
            .scopes(&[scope])
            .policy(policy, rule.clone())
            .policy(ask, ask)
            .open(method, path)
            .open("GET", path)
            .need("POST", path, rule)
            .read(ask, scope)
            .build();
        if let Ok(plan) = plan {
            let _ = (plan.table().to_string(), plan.compare(&plan), plan.has_path(ask));
        }
        let _ = (PathPattern::read(path).example(), Rule::parse(ask), AccessPlan::read(ask, path));
    }

    #[test]
    fn rules_alone_are_decided_or_refused(rule in rule(), path in text(), now in moment()) {
        let Ok(plan) = AccessPlan::builder().need("GET", "/{x}", rule).build() else { return Ok(()) };
        let caller = SupposedCaller::with(&vorsel_core::Object::new()).expect("a caller without claims");
        let _ = plan.why("GET", &path, Some(&caller), now);
        let _ = plan.table().to_string();
    }

    #[test]
    fn times_never_overflow(
        cache_time in span(), spread in span(), lifetime in span(), skew in span(), now in moment(), then in moment(),
    ) {
        let lifetime = Lifetime::try_from(lifetime);
        let longest_lifetime = lifetime.unwrap_or(Lifetime::LONGEST);
        let times = KeyTimes { longest_lifetime, cache_time, spread };
        let key = || SigningKey::hmac(Algorithm::Hs256, Secret::new((0..32).collect::<Vec<u8>>())).expect("a secret");
        let mut ring = Keyring::new(key().named("one"), times, now);
        let _ = ring.publish(key().named("two"), now).and_then(|_| ring.activate("two", then, now));
        let _ = (ring.roll(key().named("three"), then), ring.earliest_destruction("one", then), ring.destroy("one", now));
        let _ = (ring.state("two", then), ring.signing_key(then).is_some(), ring.compromise("two", then));
        let _ = Expectations::access("i", "a").skew(skew);
        let _ = (now.after(skew).before(spread).distance(then), now.to_string(), now.whole_secs());
        let revocations = Revocations::new();
        for what in [Revoked::Issued { up_to: then }, Revoked::IssuedTo { subject: String::new(), up_to: now }] {
            let _ = revocations.issued_up_to(&what, now);
            revocations.add(&Revocation { what, until: then });
        }
        revocations.forget(now);
    }

    #[test]
    fn tokens_are_issued_or_refused(texts in prop::collection::vec(text(), 6), now in moment()) {
        let key = SigningKey::hmac(Algorithm::Hs256, Secret::new((0..32).collect::<Vec<u8>>())).expect("a secret").named(texts[0].clone());
        let issuer = Issuer::new(texts[1].clone(), key).size_limit(texts[0].len() * 100);
        let draft = AccessDraft::of(&texts[2]).audience(&texts[3]).client(&texts[4]).lasting(Lifetime::LONGEST);
        let draft = draft.roles([&texts[5]]).session(&texts[0], now).acr(&texts[1]).bound_to(&texts[2]);
        let issued = issuer.access(&draft, &texts[5], now);
        let is_empty = [1, 2, 3, 5].iter().any(|at| texts[*at].is_empty());
        prop_assert!(!is_empty || issued.is_err(), "an empty name in {:?}", issued);
        let _ = (Scopes::parse(&texts[0]), KeySet::read(&texts[1]), SigningKey::from_jwk(&texts[2]));
        let _ = (SigningKey::from_pem(&texts[3]), Keyring::from_private_text(&texts[4]), UncheckedToken::read(&texts[5]));
        let _ = SigningKey::hmac(Algorithm::Hs512, Secret::new(texts[0].clone().into_bytes()));
    }
}
