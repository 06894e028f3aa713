//! Access plans: what they decide, what they refuse to load, and that a lost line never opens a route.

use serde_json::json;
use vorsel_core::rule::Reason;
use vorsel_core::{AccessPlan, Checked, NoOwn, SupposedCaller, Verdict};

mod common;
use common::{NOW, caller};

const DEMO: &str = include_str!("../../../demo/access.toml");

/// A plan that puts everything into few lines, where a lost line does the most harm.
const DENSE: &str = r#"
roles = { visitor = [], observer = ["visitor"], operator = ["observer"], director = ["operator"] }
policies.locals = "not role visitor or path.person == sub"
policies.crew = "role operator and not (role director or scope away)"
[[routes]]
method = ["GET",
  "POST"]
path = "/people/{*rest}"
open = true
[[routes]]
method = "GET"
path = "/people/obs-0017/roles"
need = "role director"
[[routes]]
method = "GET"
path = "/notes/{person}"
need = "policy locals"
[[routes]]
path = "/dome"
need = "policy crew"
method = "POST"
"#;

fn callers() -> Vec<Option<Checked<NoOwn>>> {
    let mut callers = vec![None];
    for roles in
        [&[][..], &["visitor"], &["observer"], &["operator"], &["director"], &["stranger"], &["visitor", "director"]]
    {
        for (scope, training) in [("", 0), ("exposures:read logs:read dome:move", 5), ("away people:manage", 2)] {
            let own = json!({ "training": training, "confirmed": true });
            callers.push(Some(caller("obs-0017", roles, scope, own)));
        }
    }
    callers
}

/// Every request that a plan lets through, for requests of many kinds.
fn let_through(plan: &AccessPlan, callers: &[Option<Checked<NoOwn>>]) -> Vec<String> {
    let paths = [
        "/",
        "/health",
        "/exposures",
        "/exposures/exp-101",
        "/dome",
        "/dome/",
        "/night-log",
        "/observers/obs-0017/proposals",
        "/observers/obs-0020/proposals",
        "/people/obs-0017/roles",
        "/notes/obs-0017",
        "/people/x/y",
        "/people",
        "/sign-in",
        "/oauth/token",
        "/oauth/revoke",
        "/oauth/keys",
        "/.well-known/oauth-authorization-server",
    ];
    let mut through = Vec::new();
    for (index, caller) in callers.iter().enumerate() {
        for method in ["GET", "HEAD", "POST", "PUT", "DELETE", "OPTIONS"] {
            for path in paths {
                let verdict = plan.decide(method, path, caller.as_ref().map(|caller| caller.claims().into()), NOW);
                if matches!(verdict, Verdict::Open | Verdict::Allowed) {
                    through.push(format!("{method} {path} by caller {index}"));
                }
            }
        }
    }
    through
}

#[test]
fn a_lost_line_never_opens_a_route() {
    let callers = callers();
    for text in [DEMO, DENSE] {
        let whole = let_through(&AccessPlan::read(text, "access.toml").expect("the plan"), &callers);
        assert!(whole.len() > 50, "the plan lets somebody in");
        let lines: Vec<_> = text.lines().collect();
        let mut still_loaded = 0;
        for lost in 0..lines.len() {
            let rest: Vec<_> =
                lines.iter().enumerate().filter(|(line, _)| *line != lost).map(|(_, line)| *line).collect();
            let Ok(plan) = AccessPlan::read(&rest.join("\n"), "access.toml") else { continue };
            still_loaded += 1;
            for request in let_through(&plan, &callers) {
                assert!(whole.contains(&request), "without line {} ({}): {request}", lost + 1, lines[lost]);
            }
        }
        assert!(still_loaded > 0, "some lines can go missing, comments at least");
    }
}

#[test]
fn what_spreads_over_lines_is_refused() {
    for (text, message) in [
        (
            "[roles]\na = []\n[[routes]]\nmethod = \"GET\"\npath = \"/\"\nneed = \"\"\"role a\nand role a\"\"\"",
            "6:8: expected a rule in one line",
        ),
        ("[roles]\na = []\nb = [\n \"a\"\n]", "3:5: expected the roles that \"b\" includes in one line"),
        (
            "routes = [{ method = \"GET\", path = \"/\", open = true }]",
            "1:1: expected each route under a [[routes]] line of its own",
        ),
    ] {
        let error = AccessPlan::read(text, "access.toml").expect_err(text).to_string();
        assert!(error.contains(message), "{error}");
    }
}

#[test]
fn the_demo_plan_decides_as_its_story_says() {
    let plan = AccessPlan::read(DEMO, "access.toml").expect("the plan");
    let own = |training| json!({ "training": training, "confirmed": true });
    let visitor = caller("vis-0003", &["visitor"], "exposures:read", own(0));
    let observer = caller("obs-0017", &["observer"], "exposures:read exposures:queue logs:read", own(2));
    let operator = caller("ope-0002", &["operator"], "exposures:read logs:read dome:move", own(4));
    let director = caller("dir-0001", &["director"], "exposures:read logs:read dome:move people:manage", own(5));
    let callers = [None, Some(&visitor), Some(&observer), Some(&operator), Some(&director)];
    // One letter for each caller: o open, a allowed, c a caller is needed, r refused, m another method, n no rule.
    for (method, path, verdicts) in [
        ("GET", "/health", "ooooo"),
        ("HEAD", "/health", "ooooo"),
        ("POST", "/health", "mmmmm"),
        ("GET", "/exposures", "caaaa"),
        ("POST", "/exposures", "crarr"),
        ("GET", "/exposures/exp-101", "caaaa"),
        ("HEAD", "/exposures/exp-101", "caaaa"),
        ("GET", "/exposures/exp-101/", "nnnnn"),
        ("GET", "/dome", "crraa"),
        ("POST", "/dome", "crraa"),
        ("DELETE", "/dome", "nnnnn"),
        ("OPTIONS", "/dome", "nnnnn"),
        ("get", "/dome", "nnnnn"),
        ("GET", "/night-log", "craaa"),
        ("GET", "/observers/obs-0017/proposals", "crara"),
        ("GET", "/observers/obs%2d0017/proposals", "crara"),
        ("GET", "/observers/obs-0020/proposals", "crrra"),
        ("GET", "/people/obs-0017/roles", "crrra"),
        ("GET", "/nothing", "nnnnn"),
        ("GET", "", "nnnnn"),
        ("GET", "//dome", "nnnnn"),
    ] {
        let letters: String = callers
            .iter()
            .map(|caller| match plan.decide(method, path, caller.map(|caller| caller.claims().into()), NOW) {
                Verdict::Open => 'o',
                Verdict::Allowed => 'a',
                Verdict::NeedsCaller => 'c',
                Verdict::Refused(_) => 'r',
                Verdict::NoMethod(_) => 'm',
                _ => 'n',
            })
            .collect();
        assert_eq!(letters, verdicts, "{method} {path}");
    }
}

#[test]
fn every_mistake_is_found_at_once_and_has_its_place() {
    let text = r#"scopes = ["dome:move", "a b"]
colour = "red"

[roles]
observer = []
operator = ["obsrver"]
loop = ["pool"]
pool = ["loop"]
"bad name" = []
list = "observer"

[policies]
crew = "role operater"
chase = "policy tail"
tail = "policy chase"
broken = "role and"

[[routes]]
method = "get"
path = "dome"
need = "scope dome:mov"

[[routes]]
method = "GET"
path = "/people/{person}"
need = "path.persn == sub"

[[routes]]
method = "GET"
path = "/people/{name}"
need = "policy crw"

[[routes]]
path = "/nothing"
open = false

[[routes]]
method = "GET"
path = "/both"
open = true
need = "signed-in"
ned = 1

[[routes]]
method = ["GET", "GET"]
path = "/twice"
open = true
"#;
    let error = AccessPlan::read(text, "access.toml").expect_err("a plan full of mistakes");
    let expected = [
        "access.toml:1:24: \"a b\" is not a name for a scope: visible ASCII without spaces, quotes and backslashes",
        "access.toml:2:1: unknown member \"colour\"; a plan has scopes, predicates, subjects, [roles], [policies] and [[routes]]",
        "access.toml:6:13: unknown role \"obsrver\"; did you mean \"observer\"?",
        "access.toml:7:1: the role \"loop\" includes itself",
        "access.toml:8:1: the role \"pool\" includes itself",
        "access.toml:9:1: \"bad name\" is not a name for a role: letters, digits, - and _, a letter first",
        "access.toml:10:1: expected a list of the roles that \"list\" includes: list = []",
        "access.toml:13:14: unknown role \"operater\"; did you mean \"operator\"?",
        "access.toml:14:1: the policy \"chase\" asks for itself",
        "access.toml:15:1: the policy \"tail\" asks for itself",
        "access.toml:16:16: expected the name of a role, but found \"and\"",
        "access.toml:19:10: unknown method \"get\"; did you mean \"GET\"?",
        "access.toml:20:8: expected a path that begins with \"/\", but found \"dome\"",
        "access.toml:21:15: unknown scope \"dome:mov\"; did you mean \"dome:move\"?",
        "access.toml:26:14: unknown path parameter \"persn\" in \"/people/{person}\"; did you mean \"person\"?",
        "access.toml:30:8: the path \"/people/{name}\" meets the same requests as \"/people/{person}\"",
        "access.toml:31:16: unknown policy \"crw\"; did you mean \"crew\"?",
        "access.toml:33:1: expected a method: method = \"GET\"",
        "access.toml:35:8: expected open = true, or a rule: need = \"role observer\"",
        "access.toml:41:8: a route is open or has a need, not both",
        "access.toml:42:1: unknown member \"ned\" of a route; did you mean \"need\"?",
        "access.toml:45:18: GET /twice has two entries",
    ];
    let found = error.to_string();
    for (found, expected) in found.lines().zip(expected) {
        assert_eq!(found, expected);
    }
    assert_eq!(error.mistakes().len(), expected.len(), "{found}");
}

#[test]
fn what_can_hardly_be_meant_is_a_warning_and_what_cannot_be_is_a_mistake() {
    let read = |rule: &str| {
        let text = format!(
            "predicates = [\"own\"]\n[roles]\na = []\nb = [\"a\"]\n[policies]\np = \"claims.n >= 2\"\n[[routes]]\nmethod = \"GET\"\n\
             path = \"/x/{{id}}\"\nneed = '{rule}'\n[[routes]]\nmethod = \"PUT\"\npath = \"/x\"\n\
             need = \"role a and role b and policy p and predicate own\"\n"
        );
        AccessPlan::read(&text, "access.toml")
    };
    for (rule, warning) in [
        (
            "role a or not role a",
            "every signed-in caller fulfils role a or not role a; write signed-in if that is meant",
        ),
        (
            "signed-in or scope s",
            "every signed-in caller fulfils signed-in or scope s; write signed-in if that is meant",
        ),
        ("role a or claims.n < 1 and claims.n > 2", "nobody can ever fulfil the part claims.n < 1 and claims.n > 2"),
        ("claims.n == \"x\"", "claims.n is compared with text here and with a number in an earlier rule"),
        ("signed-in", ""),
        ("role a or claims.n < 2 and claims.n > 1", ""),
        ("not (role a and role b)", ""),
    ] {
        let plan = read(rule).unwrap_or_else(|error| panic!("{rule}: {error}"));
        let warnings: Vec<_> = plan.warnings().iter().map(|warning| warning.message.as_str()).collect();
        assert_eq!(warnings.join("; "), warning, "{rule}");
        assert!(plan.warnings().iter().all(|warning| warning.place.is_some_and(|place| place.line == 10)));
    }
    for (rule, mistake) in [
        ("role b and not role a", "nobody can ever fulfil role b and not role a"),
        ("claims.a == 1 and claims.a contains 1", "nobody can ever fulfil claims.a == 1 and claims.a contains 1"),
        ("claims.a == 1 and claims.a.b == 1", "nobody can ever fulfil claims.a == 1 and claims.a.b == 1"),
        ("path.id == \"\"", "nobody can ever fulfil path.id == \"\""),
        (
            "credential bearer and not credential bearer",
            "nobody can ever fulfil credential bearer and not credential bearer",
        ),
        (
            "signed-in within 1m and not signed-in within 2m",
            "nobody can ever fulfil signed-in within 1m and not signed-in within 2m",
        ),
        ("claims.n in [1, 2] and claims.n > 2", "nobody can ever fulfil claims.n in [1, 2] and claims.n > 2"),
        (
            "claims.a < claims.b and claims.b < claims.c and claims.c < claims.a",
            "nobody can ever fulfil claims.a < claims.b and claims.b < claims.c and claims.c < claims.a",
        ),
        ("path.id == 3", "path.id is text and 3 is a number, so path.id == 3 never holds"),
        ("claims.n >= \"two\"", ">= compares numbers, but \"two\" is text"),
        ("sub in [\"a\", 1]", "sub is text, so it is never 1"),
        ("sub contains \"a\"", "\"contains\" looks into a list, but sub is not a list; write == or in"),
        (
            "claims.client_id == \"desk\"",
            "claims.client_id is no claim of the app's own; write client and the client's ID",
        ),
        ("client a and client b and client c", "nobody can ever fulfil client a and client b and client c"),
        (
            "client a and sub == \"a\" and not credential api-key",
            "nobody can ever fulfil client a and sub == \"a\" and not credential api-key",
        ),
        ("issuer a and issuer b", "nobody can ever fulfil issuer a and issuer b"),
        ("claims.roles contains \"a\"", "claims.roles is no claim of the app's own; write role and the role"),
    ] {
        let error = read(rule).expect_err(rule);
        assert_eq!(error.mistakes()[0].message, mistake, "{rule}");
    }
}

#[test]
fn text_that_is_no_toml_and_plans_without_routes_are_refused() {
    for (text, message) in [
        ("", "a plan without a route refuses every request; add [[routes]]"),
        ("[roles]\nobserver = []", "a plan without a route refuses every request"),
        ("[[routes]", "access.toml:1:"),
        ("scopes = 1", "access.toml:1:10: expected a list of names"),
        ("roles = 1", "access.toml:1:1: expected a table: [roles]"),
        ("[routes]", "expected each route under a [[routes]] line of its own"),
    ] {
        let error = AccessPlan::read(text, "access.toml").expect_err(text).to_string();
        assert!(error.contains(message), "{text:?}: {error}");
    }
}

#[test]
fn plans_in_rust_are_checked_alike() {
    let error = AccessPlan::builder()
        .role("operator", &["observer"])
        .policy("crew", "role operator and")
        .need("GET", "/dome", "role operater")
        .need("GET", "dome", "policy crew and policy crow")
        .build()
        .expect_err("a plan full of mistakes")
        .to_string();
    for message in [
        "unknown role \"observer\"",
        "policy \"crew\": in the rule at 18: expected signed-in",
        "unknown role \"operater\"; did you mean \"operator\"?",
        "expected a path that begins with \"/\", but found \"dome\"",
        "unknown policy \"crow\"",
    ] {
        assert!(error.contains(message), "{error}");
    }
    assert!(!error.contains("unknown policy \"crew\""), "it is known, and its own mistake is told: {error}");
    let in_both =
        AccessPlan::builder().read("[roles]\noperator = []", "access.toml").need("GET", "/dome", "role operator");
    assert_eq!(in_both.build().expect("a plan from both").routes().len(), 1);
}

/// The words of a reason with its marks, a part indented under the whole.
fn marked(reason: &Reason, depth: usize) -> Vec<String> {
    let seen = reason.seen.as_ref().map(|seen| format!(" <- {seen}")).unwrap_or_default();
    let mark = if reason.held == Some(true) { '+' } else { '-' };
    let mut lines = vec![format!("{}{mark} {}{seen}", "  ".repeat(depth), reason.rule)];
    lines.extend(reason.parts.iter().flat_map(|part| marked(part, depth + 1)));
    lines
}

#[test]
fn a_question_gets_the_rule_with_each_part_marked() {
    let plan = AccessPlan::read(DEMO, "access.toml").expect("the plan");
    let caller = caller("ope-0002", &["operator"], "dome:move logs:read", json!({ "training": 2 }));
    let supposed = SupposedCaller::from(&caller);
    let why = |method, path| plan.why(method, path, Some(&supposed), NOW);
    let dome = why("POST", "/dome");
    assert!(matches!(dome.verdict, Verdict::Refused(_)));
    assert_eq!(
        marked(&dome.reason.expect("a rule"), 0),
        [
            "- policy dome-crew",
            "  - all of",
            "    + role operator <- \"operator\"",
            "    + scope dome:move <- \"dome:move\", \"logs:read\"",
            "    - claims.training >= 3 <- claims.training 2",
        ]
    );
    let own = why("GET", "/observers/ope%2D0002/proposals");
    assert_eq!(own.verdict, Verdict::Allowed);
    assert_eq!(
        marked(&own.reason.expect("a rule"), 0),
        [
            "+ one of",
            "  + path.observer == sub <- path.observer \"ope-0002\", sub \"ope-0002\"",
            "  - role director <- \"operator\"",
        ]
    );
    let log = why("HEAD", "/night-log");
    assert_eq!(log.route.map(|route| route.method().to_owned()).as_deref(), Some("GET"));
    assert_eq!(
        marked(&log.reason.expect("a rule"), 0),
        [
            "+ all of",
            "  + scope logs:read <- \"dome:move\", \"logs:read\"",
            "  + not",
            "    - role visitor <- \"operator\"",
        ]
    );
    let open = why("GET", "/health");
    assert_eq!((open.verdict, open.reason), (Verdict::Open, None));
    assert_eq!(why("GET", "/basement").route, None);
    assert_eq!(plan.why("GET", "/dome", None, NOW).verdict, Verdict::NeedsCaller);
}

/// The marks at the top agree with the decision, for every caller and request of this file.
#[test]
fn reasons_agree_with_decisions() {
    let plan = AccessPlan::read(DENSE, "access.toml").expect("the plan");
    let mut asked = 0;
    for caller in callers().iter().flatten() {
        for (method, path) in
            [("GET", "/people/obs-0017/roles"), ("GET", "/notes/obs-0017"), ("GET", "/notes/x"), ("POST", "/dome")]
        {
            let why = plan.why(method, path, Some(&caller.into()), NOW);
            let held = why.reason.expect("a rule").held;
            assert_eq!(held == Some(true), why.verdict == Verdict::Allowed, "{method} {path}");
            asked += 1;
        }
    }
    assert!(asked > 50);
}

#[test]
fn a_supposed_caller_has_claims_as_a_token_would() {
    let with = |claims: serde_json::Value| SupposedCaller::with(claims.as_object().expect("an object"));
    assert!(with(json!({ "sub": "obs-0017", "roles": ["observer"], "training": null })).is_ok());
    let error = with(json!({ "roles": "observer" })).expect_err("no list").to_string();
    assert!(error.contains("expected an array of strings in \"roles\""), "{error}");
}

/// Names, scopes and places of each text count, whichever is read last.
#[test]
fn a_plan_of_two_texts_has_what_both_say() {
    let roles = "scopes = [\"dome:move\"]\n\n[roles]\noperator = []\n";
    let routes = "scopes = [\"logs:read\"]\n\n[[routes]]\nmethod = \"GET\"\npath = \"/dome\"\nneed = \"role operator and scope dome:move\"\n";
    let plan = AccessPlan::builder().read(roles, "roles.toml").read(routes, "routes.toml").build().expect("a plan");
    let warnings: Vec<_> =
        plan.warnings().iter().map(|warning| (warning.file.as_deref(), warning.to_string())).collect();
    assert_eq!(warnings, [(Some("routes.toml"), "1:11: no route asks for the scope \"logs:read\"".to_owned())]);
    let (roles, routes) = (format!("{roles}observer = [\"vistor\"]\n"), routes.replace("dome:move", "dome:moves"));
    let error = AccessPlan::builder().read(&routes, "routes.toml").read(&roles, "roles.toml").build().expect_err("two");
    assert_eq!(
        error.to_string().lines().collect::<Vec<_>>(),
        [
            "routes.toml:6:33: unknown scope \"dome:moves\"; did you mean \"dome:move\"?",
            "roles.toml:5:13: unknown role \"vistor\"",
        ]
    );
}

#[test]
fn what_lies_open_over_guarded_paths_is_a_warning() {
    let warnings = |routes: &[(&str, &str, &str)]| -> Vec<String> {
        let builder = AccessPlan::builder().role("operator", &[]);
        let add = |builder: vorsel_core::PlanBuilder, (method, path, need): &(&str, &str, &str)| match *need {
            "open" => builder.open(method, path),
            rule => builder.need(method, path, rule),
        };
        let plan = routes.iter().fold(builder, add).build().expect("a plan");
        plan.warnings().iter().map(ToString::to_string).collect()
    };
    let tasks = ("GET", "/tasks", "role operator");
    assert_eq!(
        warnings(&[("GET", "/{*files}", "open"), tasks]),
        [
            "GET /{*files} is open and lies over guarded paths: /tasks/ goes by it (/tasks); give what is open a path of its own"
        ]
    );
    assert_eq!(warnings(&[("GET", "/files/{*files}", "open"), tasks]), [""; 0]);
    assert_eq!(warnings(&[("POST", "/{*files}", "open"), tasks]), [""; 0]);
    assert_eq!(
        warnings(&[("GET", "/x/:id", "role operator")]),
        [":id in /x/:id is a fixed text; a parameter is written {id}"]
    );
}
