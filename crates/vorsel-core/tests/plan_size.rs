//! Plans whose rules are larger than anybody writes: shared parts cost once, what would cost the stack is refused, real
//! plans are settled, and what is as hard as a puzzle is said not to be.

use serde_json::json;
use vorsel_core::rule::{Rule, scope};
use vorsel_core::{
    AccessPlan, Budget, Checked, PlanBuilder, PlanError, Reach, RouteChange, SupposedCaller, Verdict, Who,
};

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

fn observatory() -> PlanBuilder {
    let roles = AccessPlan::builder().role("visitor", &[]).role("observer", &["visitor"]);
    roles.role("operator", &["observer"]).role("director", &["operator"])
}

/// How many routes change, and whether all of that is settled.
fn changes(before: &AccessPlan, after: &AccessPlan) -> (usize, bool) {
    let changes: Vec<RouteChange> = before.compare(after);
    (changes.len(), changes.iter().all(|change| change.is_settled))
}

/// A thousand routes, paths of twelve parts, wildcards beside them.
#[test]
fn large_plans_are_settled() {
    let plan = |role: &str| {
        let night = "role observer and claims.training >= 2 and claims.shift in [\"dusk\", \"night\"]";
        let mut plan = observatory().policy("night", night).open("GET", "/{*files}");
        for area in 0..333 {
            let deep = format!("/s{area}/{{a}}/{{b}}/{{c}}/d/e/f/g/h/i/j/k");
            plan = plan.need("GET", &deep, "path.a == sub or role director");
            plan = plan.need("POST", &format!("/s{area}/items"), role);
            let rule = "policy night and scope dome:move and signed-in within 10m";
            plan = plan.need("DELETE", &format!("/s{area}/items/{{*rest}}"), rule);
        }
        plan.build().expect("a plan")
    };
    let (before, after) = (plan("role operator"), plan("role observer"));
    assert_eq!(changes(&before, &after), (333, true));
    assert_eq!(changes(&before, &plan("role operator")), (0, true));
    assert!(before.table().is_settled());
}

/// A list of a hundred names for what takes the rest, beside a path of twelve parts that other rules look into.
#[test]
fn long_lists_beside_deep_paths_are_settled() {
    let plan = |last: &str| {
        let names = (0..100).map(|number| format!("\"docs/file-{number}.html\"")).chain([format!("\"{last}\"")]);
        let list = format!("path.rest in [{}]", names.collect::<Vec<_>>().join(", "));
        let plan = observatory().need("GET", "/f/{*rest}", list.as_str());
        let deep = "/f/a/{b}/{c}/{d}/{e}/{g}/{h}/{i}/{j}/{k}/{l}";
        plan.need("GET", deep, "path.b == sub and path.l != path.c").build().expect("a plan")
    };
    assert_eq!(changes(&plan("x"), &plan("y/z")), (1, true));
    assert_eq!(changes(&plan("x"), &plan("x")), (0, true));
    // What nobody can send is found out at once.
    let plan = observatory().need("GET", "/{*r}", "path.r == \"guides\" and path.r == \"dome\"").need(
        "GET",
        "/a/{b}/{c}/{d}/{e}",
        "signed-in",
    );
    let error = plan.build().expect_err("nobody").to_string();
    assert_eq!(error, "nobody can ever fulfil path.r == \"guides\" and path.r == \"dome\"");
}

/// Two hundred policies, each of which names the next two.
#[test]
fn policies_that_build_on_each_other_are_settled() {
    let plan = |last: &str| {
        let mut plan = observatory();
        for number in 0..200 {
            let [next, next_but_one] = [1, 2].map(|step| (number + step).min(199));
            let rule =
                format!("policy p{next} and claims.training >= {number} or policy p{next_but_one} and scope s{number}");
            plan = plan.policy(&format!("p{number}"), if number == 199 { last } else { rule.as_str() });
        }
        let routes = 0..20;
        let route = |plan: PlanBuilder, number: usize| {
            plan.need("GET", &format!("/x{number}"), format!("policy p{number}").as_str())
        };
        routes.fold(plan, route).build().expect("a plan")
    };
    assert_eq!(changes(&plan("role operator"), &plan("role observer")), (20, true));
}

/// Whether a graph of scopes can be coloured: as hard a question as there is.
fn puzzle(budget: Budget) -> Result<AccessPlan, PlanError> {
    let mut parts = Vec::new();
    let colour = |number: usize, colour: usize| format!("scope n{number}c{colour}");
    for number in 0..30 {
        parts.push(format!("({})", [0, 1, 2].map(|which| colour(number, which)).join(" or ")));
        for other in [1, 7, 11, 13].map(|step| (number * step + step) % 30).into_iter().filter(|other| *other != number)
        {
            parts
                .extend([0, 1, 2].map(|which| format!("not ({} and {})", colour(number, which), colour(other, which))));
        }
    }
    observatory().budget(budget).need("GET", "/", parts.join(" and ").as_str()).build()
}

#[test]
fn what_takes_more_than_the_budget_is_not_settled_and_says_so() {
    let plan = puzzle(Budget::steps(10_000)).expect("a plan, with a warning");
    let warning = plan.warnings()[0].to_string();
    assert!(warning.starts_with("not settled whether anybody can fulfil"), "{warning}");
    assert!(plan.table().rows[0].reach.contains(&Reach::Unsettled) && !plan.table().is_settled());
    assert!(plan.table().to_string().contains("not settled"));
    let other = observatory().need("GET", "/", "scope x").build().expect("a plan");
    assert!(plan.compare(&other).iter().any(|change| !change.is_settled));
    assert_eq!(plan.compare(&plan), [], "what is written alike is the same");
}

/// However little is settled, nobody with one role or none is called somebody with several.
#[test]
fn who_is_named_holds_what_is_said_whatever_the_budget() {
    let (mut named, mut unsettled) = (0, 0);
    for steps in 1..400 {
        let plan = |need: &str| observatory().budget(Budget::steps(steps)).need("GET", "/r/{x}", need).build();
        let (before, after) = (plan("scope s"), plan("scope t and not path.x == \"u\""));
        let changes = before.expect("a plan").compare(&after.expect("a plan"));
        for change in &changes {
            unsettled += u32::from(!change.is_settled);
            for said in change.gains.iter().chain(&change.loses) {
                named += 1;
                let count = said.witness.claims().get("roles").and_then(|roles| roles.as_array()).map_or(0, Vec::len);
                let fits = match &said.who {
                    Who::Anyone | Who::SignedIn => count == 0,
                    Who::Role(_) => count == 1,
                    _ => count > 1,
                };
                assert!(fits, "{steps} steps: {:?} by {}", said.who, said.witness);
            }
        }
    }
    assert!(named > 1_000 && unsettled > 50, "{named} named, {unsettled} not settled");
}

/// Far more than anybody writes. What is simple is settled all the same, and what is not comes to an end, on a thread with
/// the stack that tests and servers' workers have.
#[test]
fn rules_of_thousands_of_atoms_come_to_an_end() {
    let many = |between: &str, atom: &dyn Fn(usize) -> String| (0..2_000).map(atom).collect::<Vec<_>>().join(between);
    let table: [(String, bool); 9] = [
        (many(" and ", &|number| format!("claims.a{number} == {number}")), true),
        (many(" or ", &|number| format!("claims.a{number} == {number}")), true),
        (many(" and ", &|number| format!("claims.a{number} == sub")), true),
        (many(" and ", &|number| format!("claims.a != {number}")), true),
        (many(" and ", &|number| format!("not client c{number}")), true),
        (many(" and ", &|number| format!("(role observer or scope s{number})")), true),
        (format!("claims{} == 1", ".a".repeat(8_000)), true),
        (many(" or ", &|number| format!("claims.a contains {number} or claims.a.b{number} == 1")), false),
        (many(" and ", &|number| format!("(claims.a{number} == 1 or claims.b{number} == sub)")), false),
    ];
    for (rule, is_settled) in table {
        let plan = observatory().need("GET", "/", rule.as_str()).build().expect("a plan");
        let is_told = plan.warnings().iter().any(|warning| warning.to_string().starts_with("not settled"));
        assert_eq!((plan.table().is_settled(), is_told), (is_settled, !is_settled), "{rule:.80}");
    }
}
