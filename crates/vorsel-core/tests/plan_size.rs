//! Plans whose rules are larger than anybody writes: shared parts cost once, and what would cost the stack is refused.

use serde_json::json;
use vorsel_core::rule::{Rule, scope};
use vorsel_core::{AccessPlan, Checked, Reach, SupposedCaller, Verdict};

mod common;
use common::{NOW, caller};

/// Written out, the first of these policies has more parts than there are atoms in the hill.
#[test]
fn policies_that_name_others_twice_load_decide_and_answer() {
    const POLICIES: usize = 60;
    let last = format!("p{POLICIES}");
    let mut builder = AccessPlan::builder().role("observer", &[]).policy(&last, "role observer or scope last");
    for number in 0..POLICIES {
        let next = number + 1;
        let rule = format!("(policy p{next} and scope a{number}) or (policy p{next} and scope b{number})");
        builder = builder.policy(&format!("p{number}"), rule.as_str());
    }
    let plan = builder.need("GET", "/dome", "policy p0 and not (policy p1 and scope never)").build().expect("a plan");
    let scopes = |from: usize| (from..POLICIES).map(|number| format!("a{number}")).collect::<Vec<_>>().join(" ");
    let high = caller("obs-0017", &["observer"], &scopes(0), json!({}));
    let low = caller("obs-0017", &["observer"], &scopes(1), json!({}));
    let decide = |caller: &Checked| plan.decide("GET", "/dome", Some(caller.into()), NOW);
    assert_eq!(decide(&high), Verdict::Allowed);
    let Verdict::Refused(unmet) = decide(&low) else { panic!("let in") };
    assert!(unmet.parts[0].starts_with("scope a0 (has \"a1\"") && unmet.parts.len() == 2, "{unmet:?}");
    let why = plan.why("GET", "/dome", Some(&SupposedCaller::from(&low)), NOW);
    assert_eq!(why.reason.expect("a rule").held, Some(false));
    let reach = &plan.table().rows[0].reach;
    let Reach::If(rule) = &reach[2] else { panic!("{reach:?}") };
    assert_eq!(rule.to_string(), "policy p0 and not (policy p1 and scope never)", "too long to be written out");
    assert_eq!(plan.compare(&plan), []);
}

#[test]
fn rules_nested_without_end_are_refused() {
    let nested = |levels: usize| {
        let step = |rule, number| Rule::Any(vec![scope(format!("a{number}")), scope(format!("b{number}")).and(rule)]);
        let rule = (0..levels).fold(scope("last"), step);
        AccessPlan::builder().policy("deep", rule).need("GET", "/dome", "policy deep or scope x").build()
    };
    assert!(nested(20).is_ok());
    let error = nested(501).expect_err("a stack's depth").to_string();
    assert_eq!(error, "GET /dome: expected a rule nested at most 1000 deep, policies included, but found 1002");
}
