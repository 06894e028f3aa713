//! Whom `sub` means in a rule.

use serde_json::json;
use vorsel_core::{AccessPlan, SupposedCaller, Verdict};

mod common;
use common::NOW;

/// `sub` is a person's name with our own issuer only; a client or another issuer may have the same.
#[test]
fn sub_means_our_own_people_unless_the_plan_says_otherwise() {
    let plan = |subjects: &str| {
        let text = format!(
            "{subjects}\n[[routes]]\nmethod = \"GET\"\npath = \"/observers/{{observer}}\"\nneed = \"path.observer == sub\"\n\
             [[routes]]\nmethod = \"GET\"\npath = \"/dome\"\nneed = \"client archive and not sub == \\\"obs-0017\\\"\""
        );
        AccessPlan::read(&text, "access.toml").expect("a plan")
    };
    let with =
        |claims: serde_json::Value| SupposedCaller::with(claims.as_object().expect("an object")).expect("claims");
    let person = with(json!({ "sub": "obs-0017", "client_id": "desk" }));
    let client = with(json!({ "sub": "obs-0017", "client_id": "obs-0017" }));
    for (caller, own, all) in [
        (person.clone(), true, true),
        (person.clone().of_another_issuer(), false, true),
        (client, false, true),
        (with(json!({ "sub": "obs-0017" })), true, true),
        (with(json!({ "client_id": "obs-0017" })), false, false),
    ] {
        for (subjects, expected) in [("", own), ("subjects = \"own\"", own), ("subjects = \"all\"", all)] {
            let verdict = plan(subjects).why("GET", "/observers/obs-0017", Some(&caller), NOW).verdict;
            assert_eq!(verdict == Verdict::Allowed, expected, "{subjects} {caller:?}");
        }
    }
    let key = person.with_key_of("archive");
    assert!(matches!(plan("").why("GET", "/dome", Some(&key), NOW).verdict, Verdict::Refused(_)));
    let archive = with(json!({ "sub": "archive", "client_id": "archive" }));
    assert_eq!(plan("").why("GET", "/dome", Some(&archive), NOW).verdict, Verdict::Allowed);
    let error = AccessPlan::read("subjects = \"some\"", "access.toml").expect_err("no such word").to_string();
    assert!(error.contains("expected whose sub counts in rules: subjects = \"own\", or \"all\""), "{error}");
}
