//! What a caller is told of their reach agrees with what the plan decides, whatever path and checks turn out to be.

use std::time::Duration;

use proptest::prelude::*;
use vorsel_core::{
    AccessDraft, AccessPlan, CallerFacts, Checked, HangsOn, KeySet, Lifetime, Scopes, SigningKey, Timestamp, Verdict,
};
use vorsel_core::{Algorithm, Expectations, Issuer, Verifier};

const NOW: Timestamp = Timestamp::from_secs(1_700_000_000);

/// Rules of every kind of atom, joined and turned round, a few levels deep.
fn rule() -> impl Strategy<Value = String> {
    const ATOMS: [&str; 10] = [
        "role operator",
        "role director",
        "scope dome:move",
        "path.who == sub",
        "path.who in [\"obs-0017\", \"x\"]",
        "predicate one",
        "predicate other",
        "signed-in within 10m",
        "acr == \"phr\"",
        "signed-in",
    ];
    let leaf = proptest::sample::select(&ATOMS[..]).prop_map(str::to_owned);
    leaf.prop_recursive(3, 12, 3, |inner| {
        let parts = proptest::collection::vec(inner.clone(), 2..4);
        prop_oneof![
            parts.clone().prop_map(|parts| format!("({})", parts.join(" and "))),
            parts.prop_map(|parts| format!("({})", parts.join(" or "))),
            inner.prop_map(|part| format!("not ({part})")),
        ]
    })
}

fn caller(roles: &[&str], scope: &str, signed_in_at: Timestamp, acr: &str) -> Checked {
    let key = SigningKey::generate(Algorithm::EdDsa).expect("a key");
    let verifier = Verifier::new(KeySet::new([key.verifying_key()]), Expectations::access("i", "a"));
    let draft = AccessDraft::of("obs-0017").audience("a").client("desk").lasting(Lifetime::minutes(5));
    let draft = draft.roles(roles.iter().copied()).scopes(Scopes::parse(scope).expect("scopes"));
    let draft = draft.session("s", signed_in_at).acr(acr);
    let token = Issuer::new("i", key).access(&draft, "t", NOW).expect("a token");
    verifier.check(&token, NOW).expect("an accepted token")
}

/// Whether the plan lets the caller in with this path and these answers.
fn is_let_in(plan: &AccessPlan, caller: &Checked, path: &str, answers: [bool; 2]) -> bool {
    let answers = [("one".to_owned(), answers[0]), ("other".to_owned(), answers[1])];
    let mut facts = CallerFacts::from(caller);
    facts.answers = &answers;
    matches!(plan.decide("GET", path, Some(facts), NOW), Verdict::Allowed | Verdict::Open)
}

const BOOLS: [bool; 2] = [false, true];

proptest! {
    #![proptest_config(ProptestConfig { failure_persistence: None, ..ProptestConfig::default() })]

    /// Left out: claims and credentials, which are known of a caller like roles, and other issuers' callers.
    #[test]
    fn what_is_told_is_what_is_decided(rule in rule(), role in 0..3_usize, scope in any::<bool>(), fresh in any::<bool>()) {
        let roles: &[&str] = [&[][..], &["operator"], &["director"]][role];
        let at = if fresh { NOW } else { NOW.before(Duration::from_secs(3_600)) };
        let (scope, acr) = (if scope { "dome:move" } else { "" }, if fresh { "phr" } else { "pwd" });
        let plan = AccessPlan::builder().role("operator", &[]).role("director", &["operator"])
            .scopes(&["dome:move"]).predicates(&["one", "other"]).need("GET", "/x/{who}", rule.as_str()).build();
        // A rule that can't be true is a mistake.
        let Ok(plan) = plan else { return Ok(()) };
        let (now, later) = (caller(roles, scope, at, acr), caller(roles, scope, NOW, "phr"));
        let every = |caller: &Checked| -> Vec<bool> {
            let paths = ["/x/obs-0017", "/x/x", "/x/somebody"].iter();
            paths.flat_map(|path| BOOLS.map(|one| BOOLS.map(|other| is_let_in(&plan, caller, path, [one, other])))).flatten().collect()
        };
        let (outcomes, outcomes_later) = (every(&now), every(&later));
        match plan.reached_by((&now).into(), NOW).first().map(|reached| reached.hangs_on.clone()) {
            None => prop_assert!(!outcomes.contains(&true) && (fresh || rule.contains("not") || !outcomes_later.contains(&true)), "{rule}"),
            Some(on) if on.is_empty() => prop_assert!(!outcomes.contains(&false), "{rule}"),
            Some(on) => {
                if !on.contains(&HangsOn::SignIn) {
                    prop_assert!(on.contains(&HangsOn::Path) || on.contains(&HangsOn::Check));
                }
                if !on.contains(&HangsOn::Path) {
                    prop_assert_eq!(&outcomes[..4], &outcomes[8..], "{} does not hang on the path", rule);
                }
            }
        }
    }
}

#[test]
fn the_observers_of_the_hill_are_told_their_reach_and_no_rule() {
    let plan = AccessPlan::read(include_str!("../../../demo/access.toml"), "demo").expect("a plan");
    let director = caller(&["director"], "dome:move people:manage", NOW.before(Duration::from_secs(3_600)), "pwd");
    let reached = plan.reached_by((&director).into(), NOW);
    let find = |method: &str, path: &str| {
        let found = reached.iter().find(|reached| (reached.method, reached.path) == (method, path));
        found.map(|reached| reached.hangs_on.iter().map(|on| on.as_str()).collect::<Vec<_>>().join(" "))
    };
    for (method, path, expected) in [
        ("GET", "/health", Some("")),
        ("GET", "/me", Some("")),
        ("GET", "/people/{person}/roles", Some("")),
        ("PUT", "/people/{person}/roles", Some("sign-in path check")),
        ("GET", "/observers/{observer}/proposals", Some("")),
        ("POST", "/weather", None),
        ("POST", "/exposures", None),
    ] {
        assert_eq!(find(method, path).as_deref(), expected, "{method} {path}");
    }
}
