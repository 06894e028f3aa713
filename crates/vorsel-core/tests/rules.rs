//! The rule language: what is read, what is not, and what holds for whom.

use std::time::Duration;

use proptest::prelude::*;
use serde_json::{Value, json};
use vorsel_core::rule::{
    Comparison, Operand, Rule, acr, claim, claim_at, client, credential, issuer, path, predicate, role, scope,
    signed_in, signed_in_within, subject,
};
use vorsel_core::{AccessPlan, Credential, Verdict};

mod common;
use common::{NOW, caller};

#[test]
fn rules_are_read_with_not_before_and_before_or() {
    for (text, rule) in [
        ("signed-in", signed_in()),
        ("role operator", role("operator")),
        ("role \"operator\"", role("operator")),
        ("role \"within\"", role("within")),
        ("signed-in within 10m", signed_in_within(Duration::from_secs(600))),
        ("signed-in within 90s and role a", signed_in_within(Duration::from_secs(90)).and(role("a"))),
        ("acr == \"phr\"", acr().equals("phr")),
        ("acr in [\"phr\", \"mfa\"]", acr().is_one_of(["phr", "mfa"])),
        ("scope dome:move", scope("dome:move")),
        ("predicate owns-exposure", predicate("owns-exposure")),
        ("client desk", client("desk")),
        ("client \"night desk\"", client("night desk")),
        ("issuer https://id.skarnhill.test", issuer("https://id.skarnhill.test")),
        ("credential api-key", credential(Credential::ApiKey)),
        ("role \"predicate\"", role("predicate")),
        ("not role visitor", !role("visitor")),
        ("role a and role b or role c", Rule::Any(vec![role("a").and(role("b")), role("c")])),
        ("role a or role b and role c", Rule::Any(vec![role("a"), role("b").and(role("c"))])),
        ("(role a or role b) and role c", Rule::All(vec![role("a").or(role("b")), role("c")])),
        ("not role a and role b", (!role("a")).and(role("b"))),
        ("not (role a and role b)", !role("a").and(role("b"))),
        ("claims.training >= 2", claim("training").at_least(2)),
        ("claims.training>=2", claim("training").at_least(2)),
        ("claims.lamp.on == true", claim("lamp.on").equals(true)),
        ("claims.shift in [\"dusk\", \"night\"]", claim("shift").is_one_of(["dusk", "night"])),
        ("claims.lamps contains 3", claim("lamps").contains(3)),
        ("path.observer == sub", path("observer").equals(subject())),
        ("sub != \"obs-0017\"", Rule::Compare(subject(), Comparison::Unequal, "obs-0017".into())),
        ("1.5 < claims.training", Rule::Compare(1.5.into(), Comparison::Less, claim("training"))),
        ("claims.name == \"a \\\"b\\\" \\u00e9\"", claim("name").equals("a \"b\" é")),
    ] {
        assert_eq!(Rule::parse(text), Ok(rule), "{text}");
    }
}

#[test]
fn mistakes_have_their_place_and_say_what_would_be_right() {
    for (text, at, message) in [
        (
            "",
            0,
            "expected signed-in, role, scope, client, issuer, policy, predicate, credential, not, a parenthesis or a comparison of sub, acr, claims.… or path.…, but found the end of the rule",
        ),
        ("role", 4, "expected the name of a role, but found the end of the rule"),
        (
            "signed-in within",
            16,
            "expected a duration from 1s to 3660d, such as 90s, 10m, 2h or 1d, but found the end of the rule",
        ),
        (
            "signed-in within 10",
            17,
            "expected a duration from 1s to 3660d, such as 90s, 10m, 2h or 1d, but found \"10\"",
        ),
        (
            "signed-in within 0m",
            17,
            "expected a duration from 1s to 3660d, such as 90s, 10m, 2h or 1d, but found \"0m\"",
        ),
        (
            "signed-in within -1m",
            17,
            "expected a duration from 1s to 3660d, such as 90s, 10m, 2h or 1d, but found \"-1m\"",
        ),
        (
            "signed-in within 99999999999999999999d",
            17,
            "expected a duration from 1s to 3660d, such as 90s, 10m, 2h or 1d, but found \"99999999999999999999d\"",
        ),
        ("predicate", 9, "expected the name of a predicate, but found the end of the rule"),
        ("client", 6, "expected a client ID, but found the end of the rule"),
        ("issuer or", 7, "expected an issuer, but found \"or\""),
        (
            "credential apikey",
            11,
            "expected a kind of credential: bearer, cookie, api-key or ticket, but found \"apikey\"",
        ),
        ("claims. == 1", 0, "expected the name of a claim after \"claims.\", but found \"claims.\""),
        ("claims. \"a\" == 1", 0, "expected the name of a claim after \"claims.\", but found \"claims.\""),
        ("claims.\"\" == 1", 0, "expected the name of a claim after \"claims.\", but found \"claims.\""),
        ("claims.a..b == 1", 0, "expected the name of a claim after \"claims.\", but found \"claims.a..b\""),
        ("claims.\"a\". == 1", 10, "expected the name of a claim after \"claims.\", but found \".\""),
        ("claims.\"a\"b == 1", 10, "expected a comparison: ==, !=, <, <=, >, >=, in or contains, but found \"b\""),
        ("role within", 5, "expected the name of a role, but found \"within\""),
        ("role and role a", 5, "expected the name of a role, but found \"and\""),
        ("role operator scope x", 14, "expected \"and\", \"or\" or the end of the rule, but found \"scope\""),
        ("role a &", 7, "expected \"and\", \"or\" or the end of the rule, but found \"&\""),
        ("(role a", 7, "expected \")\", but found the end of the rule"),
        ("role a)", 6, "expected \"and\", \"or\" or the end of the rule, but found \")\""),
        (
            "claims.training",
            15,
            "expected a comparison: ==, !=, <, <=, >, >=, in or contains, but found the end of the rule",
        ),
        ("claims. == 1", 0, "expected the name of a claim after \"claims.\", but found \"claims.\""),
        ("claims.training = 2", 16, "expected a word, a value or a comparison, but found \"=\"; did you mean \"==\"?"),
        ("claims.training >= high", 19, "expected a value to compare with, but found \"high\""),
        ("claims.shift in []", 17, "expected a string, a number, true or false, but found \"]\""),
        (
            "claims.shift == \"dusk",
            16,
            "expected a string in double quotes, but found one that does not end, or a wrong escape",
        ),
        ("role a and\nrole b", 10, "expected a rule in one line, but found a line break"),
        (
            "roles operator",
            0,
            "expected signed-in, role, scope, client, issuer, policy, predicate, credential, not, a parenthesis or a comparison of sub, acr, claims.… or path.…, but found \"roles\"",
        ),
        ("role 7up", 5, "expected the name of a role, but found \"7up\""),
    ] {
        let error = Rule::parse(text).expect_err(text);
        assert_eq!((error.span.start, error.to_string().as_str()), (at, message), "{text:?}");
    }
    let deep = format!("{}role a{}", "(".repeat(60), ")".repeat(60));
    assert_eq!(Rule::parse(&deep).expect_err("too deep").span.start, 51);
    assert!(Rule::parse(&"not ".repeat(100_000)).is_err());
}

#[test]
fn rules_hold_for_whom_they_should() {
    let own = json!({ "training": 3, "big": 9_007_199_254_740_993_u64, "shift": "night", "confirmed": true, "lamps": [1, "red"], "lamp": { "on": false }, "nothing": null });
    let caller = caller("obs-0017", &["operator"], "logs:read dome:move", own);
    for (rule, holds) in [
        ("signed-in", true),
        ("role operator", true),
        ("role observer", true),
        ("role director", false),
        ("role visitor", false),
        ("scope dome:move", true),
        ("scope dome", false),
        ("policy crew", true),
        ("signed-in within 5m", true),
        ("signed-in within 299s", false),
        ("signed-in within 1d", true),
        ("not signed-in within 1s", true),
        ("acr == \"mfa\"", true),
        ("acr in [\"phr\", \"mfa\"]", true),
        ("acr == \"phr\"", false),
        ("acr != \"phr\"", true),
        ("\"mfa\" == acr", true),
        ("not policy crew", false),
        ("not role visitor", true),
        ("not not role operator", true),
        ("claims.training == 3", true),
        ("claims.training == 3.0", true),
        ("claims.training == \"3\"", false),
        ("claims.training != \"3\"", false),
        ("claims.training != 4", true),
        ("claims.training > 2.5", true),
        ("claims.training > 3", false),
        ("claims.training >= 3", true),
        ("claims.training < 3", false),
        ("claims.training <= 3", true),
        ("2 < claims.training", true),
        ("claims.big > 9007199254740992", true),
        ("claims.big == 9007199254740992", false),
        ("claims.shift in [\"dusk\", \"night\"]", true),
        ("claims.shift in [\"dawn\"]", false),
        ("claims.lamps contains \"red\"", true),
        ("claims.lamps contains 2", false),
        ("claims.shift contains \"night\"", false),
        ("claims.lamp.on == false", true),
        ("claims.lamp.off == false", false),
        ("claims.nothing == false", false),
        ("claims.missing == 1", false),
        ("claims.missing != 1", false),
        ("not claims.missing == 1", true),
        ("claims.confirmed == true and (role director or scope logs:read)", true),
        ("client desk", true),
        ("client archive", false),
        ("not client archive", true),
        ("issuer \"issuer\"", true),
        ("issuer https://id.skarnhill.test", false),
        ("sub == \"obs-0017\"", true),
        ("path.observer == sub", true),
        ("path.elsewhere == sub", false),
    ] {
        let plan = AccessPlan::builder()
            .role("visitor", &[])
            .role("observer", &[])
            .role("operator", &["observer"])
            .role("director", &["operator"])
            .policy("crew", "role operator and scope dome:move")
            .policy("probe", rule)
            .need("GET", "/{observer}", "policy probe or scope none")
            .build()
            .unwrap_or_else(|error| panic!("{rule}: {error}"));
        let verdict = plan.decide("GET", "/obs%2D0017", Some(caller.claims().into()), NOW);
        assert_eq!(verdict == Verdict::Allowed, holds, "{rule}");
    }
}

/// Otherwise taking a role's line out of the plan would let its holders past a `not`.
#[test]
fn a_role_the_plan_does_not_know_is_on_the_losing_side_of_a_not() {
    let plan = AccessPlan::builder()
        .role("visitor", &[])
        .role("observer", &[])
        .need("GET", "/", "signed-in and not role visitor")
        .need("GET", "/either", "not (role visitor and scope x) or not (scope y or role observer)")
        .build()
        .expect("a plan");
    for (roles, allowed) in [
        (&["observer"][..], true),
        (&[], true),
        (&["visitor"], false),
        (&["stranger"], false),
        (&["observer", "stranger"], false),
    ] {
        let caller = caller("obs-0017", roles, "x", json!({}));
        assert_eq!(
            plan.decide("GET", "/", Some(caller.claims().into()), NOW) == Verdict::Allowed,
            allowed,
            "{roles:?}"
        );
    }
    let stranger = caller("obs-0017", &["stranger"], "x", json!({}));
    assert!(matches!(plan.decide("GET", "/either", Some(stranger.claims().into()), NOW), Verdict::Refused(_)));
}

#[test]
fn what_is_missing_is_said_in_the_words_of_the_rule() {
    let plan = AccessPlan::builder()
        .role("operator", &[])
        .policy("crew", "role operator and scope dome:move")
        .need("POST", "/dome", "policy crew and claims.training >= 3 and scope logs:read")
        .need("GET", "/either", "scope a or scope b")
        .build()
        .expect("a plan");
    let caller = caller("obs-0017", &[], "logs:read", json!({ "training": "low\n" }));
    let Verdict::Refused(unmet) = plan.decide("POST", "/dome", Some(caller.claims().into()), NOW) else {
        panic!("let in")
    };
    assert_eq!(unmet.rule, "policy crew and claims.training >= 3 and scope logs:read");
    assert_eq!(
        unmet.parts,
        [
            "role operator (has nothing)",
            "scope dome:move (has \"logs:read\")",
            "claims.training >= 3 (has claims.training \"low\\n\")",
        ]
    );
    assert_eq!(unmet.scopes, ["dome:move"]);
    let Verdict::Refused(unmet) = plan.decide("GET", "/either", Some(caller.claims().into()), NOW) else {
        panic!("let in")
    };
    assert_eq!(unmet.scopes, [""; 0], "either would do, so neither is asked for");
}

/// [RFC 9470](https://www.rfc-editor.org/rfc/rfc9470): a fresh sign-in is asked for only where it would help.
#[test]
fn who_would_be_let_in_after_a_fresh_sign_in_is_told_so() {
    let ages = |seconds| Some(Duration::from_secs(seconds));
    for (rule, expected) in [
        ("signed-in within 1m", Some((ages(60), &[][..]))),
        ("signed-in within 1m and role operator", Some((ages(60), &[]))),
        ("signed-in within 1m and role director", None),
        ("signed-in within 1m and signed-in within 30s", Some((ages(30), &[]))),
        ("signed-in within 10m and acr == \"phr\"", Some((None, &["phr"]))),
        ("signed-in within 1m and acr in [\"phr\", \"hwk\"]", Some((ages(60), &["phr", "hwk"]))),
        ("role director or signed-in within 1m", Some((ages(60), &[]))),
        ("policy fresh", Some((ages(1), &[]))),
        ("not signed-in within 10m", None),
        ("not acr == \"mfa\"", None),
    ] {
        let plan = AccessPlan::builder()
            .role("operator", &[])
            .role("director", &[])
            .policy("fresh", "signed-in within 1s")
            .need("GET", "/", rule)
            .build()
            .expect("a plan");
        let caller = caller("obs-0017", &["operator"], "", json!({}));
        let Verdict::Refused(unmet) = plan.decide("GET", "/", Some(caller.claims().into()), NOW) else {
            panic!("let in: {rule}")
        };
        let step_up = unmet.step_up.map(|step_up| (step_up.max_age, step_up.acr_values));
        let expected = expected.map(|(age, values)| (age, values.iter().map(|value| (*value).to_owned()).collect()));
        assert_eq!(step_up, expected, "{rule}");
    }
}

fn literal() -> impl Strategy<Value = Value> {
    prop_oneof![any::<bool>().prop_map(Value::from), any::<i64>().prop_map(Value::from), ".{0,6}".prop_map(Value::from)]
}

fn operand() -> impl Strategy<Value = Operand> {
    prop_oneof![
        Just(subject()),
        Just(acr()),
        "[a-z]{1,4}(\\.[a-z_]{1,4}){0,2}".prop_map(|path| claim(&path)),
        // Plain ones, those with every sign in them, and both in turn.
        prop::collection::vec(prop_oneof!["[a-z]{1,4}", "[ -~é\\t]{1,6}"], 1..4).prop_map(claim_at),
        "[a-z]{1,4}".prop_map(path),
        literal().prop_map(Operand::Literal),
    ]
}

fn any_rule() -> impl Strategy<Value = Rule> {
    let comparison = prop_oneof![
        Just(Comparison::Equal),
        Just(Comparison::Unequal),
        Just(Comparison::Less),
        Just(Comparison::AtMost),
        Just(Comparison::Greater),
        Just(Comparison::AtLeast),
    ];
    let atom = prop_oneof![
        Just(signed_in()),
        (1..400_000_u64).prop_map(|seconds| signed_in_within(Duration::from_secs(seconds))),
        "[a-z][a-z0-9_-]{0,6}".prop_map(role),
        "[!#-\\[\\]-~]{1,6}".prop_map(scope),
        "[a-z][a-z0-9_-]{0,6}".prop_map(predicate),
        "[ -~]{1,8}".prop_map(client),
        "[!-~]{1,8}".prop_map(issuer),
        prop::sample::select(Credential::ALL.to_vec()).prop_map(credential),
        (operand(), comparison, operand()).prop_map(|(left, by, right)| Rule::Compare(left, by, right)),
        (operand(), prop::collection::vec(literal(), 1..4)).prop_map(|(operand, values)| Rule::In(operand, values)),
        (operand(), literal()).prop_map(|(operand, value)| Rule::Contains(operand, value)),
    ];
    atom.prop_recursive(4, 24, 4, |inner| {
        prop_oneof![
            inner.clone().prop_map(|rule| !rule),
            prop::collection::vec(inner.clone(), 2..4).prop_map(Rule::All),
            prop::collection::vec(inner, 2..4).prop_map(Rule::Any),
        ]
    })
}

proptest! {
    #[test]
    fn what_is_printed_reads_back_as_the_same_rule(rule in any_rule()) {
        let text = rule.to_string();
        prop_assert_eq!(Rule::parse(&text), Ok(rule), "{}", text);
    }

    #[test]
    fn reading_never_panics(text in ".{0,40}") {
        let _ = Rule::parse(&text);
    }
}

/// As other issuers name claims.
#[test]
fn a_claim_may_have_any_name_in_quotes() {
    for (text, names) in [
        (r#"claims."https://lab.skarnhill.test/roles" contains "crew""#, &["https://lab.skarnhill.test/roles"][..]),
        (r#"claims.hill."a b".c contains "crew""#, &["hill", "a b", "c"]),
        (r#"claims."a"."b" contains "crew""#, &["a", "b"]),
        (r#"claims."a".b.c."d.e" contains "crew""#, &["a", "b", "c", "d.e"]),
        (r#"claims."plain" contains "crew""#, &["plain"]),
    ] {
        let rule = Rule::Contains(claim_at(names.iter().copied()), "crew".into());
        assert_eq!(Rule::parse(text).as_ref(), Ok(&rule), "{text}");
        assert_eq!(Rule::parse(&rule.to_string()), Ok(rule), "{text}");
    }
    assert_eq!(claim_at([""; 0]), claim_at([""]), "no name is one that nobody has");
    let plan =
        AccessPlan::builder().need("GET", "/dome", r#"claims."https://lab.skarnhill.test/roles".hill contains "crew""#);
    let plan = plan.build().expect("a plan");
    for (claims, is_let_in) in [
        (r#"{"sub":"a","https://lab.skarnhill.test/roles":{"hill":["crew"]}}"#, true),
        (r#"{"sub":"a","https://lab.skarnhill.test/roles":{"hill":["guest"]}}"#, false),
        (r#"{"sub":"a","hill":["crew"]}"#, false),
    ] {
        let caller =
            vorsel_core::SupposedCaller::with(&serde_json::from_str(claims).expect("an object")).expect("a caller");
        let why = plan.why("GET", "/dome", Some(&caller), vorsel_core::Timestamp::from_secs(0));
        assert_eq!(matches!(why.verdict, Verdict::Allowed), is_let_in, "{claims}");
    }
}
