//! Entries for a router's fallback: what they cover, and how they are written.

use vorsel_core::{Access, AccessPlan, Timestamp, Verdict};

const NOW: Timestamp = Timestamp::from_secs(1_900_000_000);

fn read(routes: &str) -> Result<AccessPlan, String> {
    AccessPlan::builder().read(routes, "access.toml").build().map_err(|error| error.to_string())
}

fn entry(plan: &AccessPlan, path: &str) -> Option<String> {
    let route = plan.route_of("GET", path)?;
    Some(format!("{}{}", if route.is_fallback() { "fallback " } else { "" }, route.path()))
}

#[test]
fn a_fallback_covers_what_no_pattern_has_and_goes_with_patterns_of_any_form() {
    let plan = read(
        "[[routes]]\nmethod = \"GET\"\nfallback = true\nopen = true\n\
         [[routes]]\nmethod = \"POST\"\npath = \"/cellar\"\nfallback = true\nneed = \"signed-in\"\n\
         [[routes]]\nmethod = \"GET\"\npath = \"/{page}\"\nneed = \"signed-in\"\n\
         [[routes]]\nmethod = \"GET\"\npath = \"/cellar/{wine}\"\nneed = \"signed-in\"\n",
    )
    .expect("a plan");
    for (path, found) in [
        ("/", Some("fallback /")),
        ("/page", Some("/{page}")),
        ("/page/", Some("fallback /{*fallback}")),
        ("/a/b/c", Some("fallback /{*fallback}")),
        ("/cellar/red", Some("/cellar/{wine}")),
        ("/cellar", Some("/{page}")),
        ("", None),
        ("*", None),
    ] {
        assert_eq!(entry(&plan, path).as_deref(), found, "{path}");
    }
    assert!(matches!(plan.decide("GET", "/a/b", None, NOW), Verdict::Open));
    // The fallback of a router gets a method that no route has, and a path that one has with another method does not go by it.
    assert!(matches!(plan.decide("POST", "/page", None, NOW), Verdict::NoRule));
}

#[test]
fn the_bare_path_goes_by_its_own_route_where_there_is_one() {
    let plan = AccessPlan::builder().need("GET", "/", "signed-in").open_fallback("GET", "/").build().expect("a plan");
    assert_eq!(entry(&plan, "/").as_deref(), Some("/"));
    assert_eq!(plan.routes().len(), 2, "{:?}", plan.routes());
    assert_eq!(*plan.routes()[1].access(), Access::Open);
    let tenants = AccessPlan::builder().open("GET", "/{tenant}").need_fallback("GET", "/{tenant}", "signed-in");
    assert_eq!(entry(&tenants.build().expect("a plan"), "/hill").as_deref(), Some("/{tenant}"));
    let plan = AccessPlan::builder().need_fallback("GET", "/cellar/", "signed-in").build().expect("a plan");
    assert_eq!(entry(&plan, "/cellar").as_deref(), Some("fallback /cellar"));
    assert_eq!(entry(&plan, "/cellar/x").as_deref(), Some("fallback /cellar/{*fallback}"));
}

#[test]
fn mistakes_in_an_entry_for_a_fallback_are_found() {
    let route = |rest: &str| format!("[[routes]]\nmethod = \"GET\"\n{rest}\n");
    for (text, message) in [
        (route("fallback = false\nopen = true"), "3:12: expected fallback = true"),
        (route("fallback = \"yes\"\nopen = true"), "3:12: expected fallback = true"),
        (route("falback = true\nopen = true"), "unknown member \"falback\" of a route; did you mean \"fallback\"?"),
        (route("fallback = true"), "expected need = \"…\" with a rule, or the word open = true"),
        (route("fallback = true\nneed = \"path.x == sub\""), "unknown path parameter \"x\""),
        (route("fallback = true\npath = \"cellar\"\nopen = true"), "expected a path that begins with \"/\""),
        (
            format!("{}{}", route("fallback = true\nopen = true"), route("fallback = true\nneed = \"signed-in\"")),
            "GET /{*fallback} has two entries",
        ),
    ] {
        let error = read(&text).expect_err(message);
        assert!(error.contains(message), "{error}");
    }
}

#[test]
fn questions_about_a_plan_take_a_fallback_for_what_it_covers() {
    let plan = |build: fn(vorsel_core::PlanBuilder) -> vorsel_core::PlanBuilder| {
        build(AccessPlan::builder().role("operator", &[]).need("GET", "/dome", "role operator"))
            .build()
            .expect("a plan")
    };
    let (before, after) = (plan(|plan| plan), plan(|plan| plan.open_fallback("GET", "/")));
    let changes = before.compare(&after);
    let gained: Vec<_> = changes.iter().map(|change| format!("{} {}", change.method(), change.path())).collect();
    assert_eq!(gained, ["GET /", "GET /{*fallback}"], "{changes:?}");
    assert!(after.warnings().is_empty(), "{:?}", after.warnings());
    assert!(after.table().render(|_, words| words.to_owned()).contains("/{*fallback}"));
}

#[test]
fn a_plan_written_as_text_means_the_same() {
    let demo = AccessPlan::read(include_str!("../../../demo/access.toml"), "demo").expect("a plan");
    let odd = AccessPlan::builder()
        .role("night-crew", &[])
        .role("operator", &["night-crew"])
        .danger_all_subjects()
        .policy("crew", "role night-crew and claims.name == \"a\\\"b\\\\c\"")
        .need("GET", "/people/{{x}}/{person}", "policy crew or path.person == sub")
        .open_fallback("GET", "/")
        .need_fallback("POST", "/cellar", "signed-in");
    for plan in [demo, odd.build().expect("a plan")] {
        let text = plan.to_toml();
        let again = AccessPlan::read(&text, "again").unwrap_or_else(|error| panic!("{error}\n{text}"));
        assert_eq!(again.routes(), plan.routes());
        assert_eq!(again.to_toml(), text);
        assert!(plan.compare(&again).is_empty(), "{text}");
    }
}
