//! `vorsel plan`: lint, table, ask and compare.

use std::fs;

use snapbox::{assert_data_eq, file, str};

mod common;
use common::{Done, vorsel, vorsel_with};

const DEMO: &str = concat!(env!("CARGO_MANIFEST_DIR"), "/../../demo/access.toml");

fn ask(arguments: &[&str]) -> Done {
    vorsel(&[&["plan", "ask", "--plan", DEMO], arguments].concat())
}

#[test]
fn a_good_plan_is_called_one() {
    let done = vorsel(&["plan", "lint", DEMO]);
    assert_eq!(done.status, 0, "{done:?}");
    assert!(done.out.starts_with("No mistake in ") && done.out.ends_with("33 routes, 11 of them open\n"), "{done:?}");
    assert_eq!(vorsel(&["plan", "lint", DEMO, "--json"]).json()["accepted"], true);
}

#[test]
fn every_mistake_is_shown_at_once_in_its_line() {
    let folder = tempfile::tempdir().expect("a folder");
    let file = folder.path().join("access.toml");
    let text = "[roles]\noperator = []\n[policies]\ncrew = \"role operater\"\nbroken = \"role operator and\"\n\
                [[routes]]\nmethod = \"GETT\"\npath = \"/dome\"\nneed = \"policy crew and policy broken and policy crow\"\n";
    fs::write(&file, text).expect("a file");
    let done = vorsel(&["plan", "lint", file.to_str().expect("a path")]);
    assert_eq!(done.status, 1, "{done:?}");
    let shown = done.out.replace(file.to_str().expect("a path"), "access.toml");
    assert_data_eq!(
        shown,
        str![[r#"
access.toml:4:14: unknown role "operater"; did you mean "operator"?
  4 | crew = "role operater"
    |              ^

access.toml:5:28: expected signed-in, role, scope, client, issuer, policy, predicate, credential, not, a parenthesis or a comparison of sub, acr, claims.… or path.…, but found the end of the rule
  5 | broken = "role operator and"
    |                            ^

access.toml:7:10: unknown method "GETT"; did you mean "GET"?
  7 | method = "GETT"
    |          ^

access.toml:9:50: unknown policy "crow"; did you mean "crew"?
  9 | need = "policy crew and policy broken and policy crow"
    |                                                  ^

4 mistakes in access.toml

"#]]
    );
    let record = vorsel(&["plan", "lint", file.to_str().expect("a path"), "--json"]).json();
    assert_eq!((&record["accepted"], &record["mistakes"][0]["line"]), (&false.into(), &4.into()));
    assert_eq!(vorsel(&["plan", "lint", "/nowhere/access.toml"]).status, 2);
}

#[test]
fn a_question_is_answered_with_the_reason() {
    let operator = ["--subject", "ope-0002", "--role", "operator", "--scope", "dome:move", "--claim", "training=2"];
    let done = ask(&[&["POST", "/dome"], &operator[..]].concat());
    assert_eq!(done.status, 1, "{done:?}");
    assert_data_eq!(
        done.out,
        str![[r#"
POST /dome → refused (403)
  POST /dome: need policy dome-crew
  ✗ policy dome-crew
    ✗ all of
      ✓ role operator  has "operator"
      ✓ scope dome:move  has "dome:move"
      ✗ claims.training >= 3  has claims.training 2

"#]]
    );
    for (arguments, status, verdict) in [
        (&["GET", "/health"][..], 0, "open"),
        (&["GET", "/dome"], 1, "needs-caller"),
        (&["GET", "/dome", "--role", "director"], 0, "allowed"),
        (&["POST", "/health"], 1, "no-method"),
        (&["GET", "/basement", "--role", "director"], 1, "no-rule"),
    ] {
        let done = ask(&[arguments, &["--json"]].concat());
        assert_eq!((done.status, &done.json()["verdict"]), (status, &verdict.into()), "{done:?}");
    }
    assert_eq!(ask(&["GET", "/dome", "--scope", "a  b"]).status, 2);
    let done =
        ask(&["DELETE", "/exposure/exp-101", "--role", "diretcor", "--scope", "dome:mve", "--predicate", "owns=yes"]);
    assert_data_eq!(
        done.out,
        str![[r#"
DELETE /exposure/exp-101 → no-rule (403)
  the plan has no entry for this method and path
  ! the plan knows no role "diretcor"; did you mean "director"?
  ! the plan knows no scope "dome:mve"; did you mean "dome:move"?
  ! the plan knows no predicate "owns"
  ! the plan knows no path "/exposure/exp-101"; did you mean "/exposures/exp-101"?

"#]]
    );
}

#[test]
fn the_caller_may_be_taken_from_a_token() {
    let folder = tempfile::tempdir().expect("a folder");
    let key = folder.path().join("hill.jwk").to_str().expect("a path").to_owned();
    assert_eq!(vorsel(&["keys", "make", "--out", &key]).status, 0);
    let token = vorsel(&["issue", "--keys", &key, "--subject", "dir-0001", "--role", "director"]).out;
    let asked = ["plan", "ask", "--plan", DEMO, "--token", "GET", "/dome"];
    let done = vorsel_with(&asked, token.as_bytes());
    assert_eq!(done.status, 0, "{done:?}");
    assert!(done.out.contains("✓ role operator  has \"director\""), "{done:?}");
    assert_eq!(vorsel_with(&asked, b"no token").status, 2);
}

/// `sub` means our own people; a client and another issuer's people are somebody else.
#[test]
fn a_supposed_caller_may_be_a_client_or_of_another_issuer() {
    let folder = tempfile::tempdir().expect("a folder");
    let file = folder.path().join("access.toml");
    let text = "[[routes]]\nmethod = \"GET\"\npath = \"/own/{who}\"\nneed = \"path.who == sub\"\n\
                [[routes]]\nmethod = \"GET\"\npath = \"/dome\"\nneed = \"client dome-controller\"\n\
                [[routes]]\nmethod = \"GET\"\npath = \"/lab\"\nneed = 'issuer \"https://lab.skarnhill.test\"'\n";
    fs::write(&file, text).expect("a file");
    let plan = file.to_str().expect("a path");
    for (path, who, verdict) in [
        ("/own/obs-0017", &["--subject", "obs-0017"][..], "allowed"),
        ("/own/obs-0017", &["--subject", "obs-0017", "--client", "desk"], "allowed"),
        ("/own/obs-0017", &["--subject", "obs-0017", "--client", "obs-0017"], "refused"),
        ("/own/obs-0017", &["--subject", "obs-0017", "--issuer", "https://lab.skarnhill.test"], "refused"),
        ("/dome", &["--client", "dome-controller"], "allowed"),
        ("/dome", &["--key-of", "dome-controller"], "allowed"),
        ("/dome", &["--subject", "obs-0017"], "refused"),
        ("/lab", &["--issuer", "https://lab.skarnhill.test"], "allowed"),
        ("/lab", &["--subject", "obs-0017"], "refused"),
    ] {
        let asked = [&["plan", "ask", "--plan", plan, "GET", path, "--json"], who].concat();
        assert_eq!(vorsel(&asked).json()["verdict"], verdict, "{path} {who:?}");
    }
}

/// Read it: each message says where, what, and what would be right.
#[test]
fn a_plan_with_more_than_twenty_mistakes_gives_them_all_in_one_go() {
    let draft = concat!(env!("CARGO_MANIFEST_DIR"), "/tests/data/draft.toml");
    let done = vorsel(&["plan", "lint", draft]);
    assert_eq!(done.status, 1, "{done:?}");
    assert_data_eq!(done.out.replace(draft, "draft.toml"), file!["data/draft.txt"]);
    let record = vorsel(&["plan", "lint", draft, "--json"]).json();
    let mistakes = record["mistakes"].as_array().expect("a list");
    assert!(mistakes.len() >= 20 && mistakes.iter().all(|mistake| mistake["line"].is_u64()), "{record}");
}

#[test]
fn what_can_hardly_be_meant_is_a_warning() {
    let folder = tempfile::tempdir().expect("a folder");
    let file = folder.path().join("access.toml");
    let text = "[roles]\noperator = []\nspare = []\n[[routes]]\nmethod = \"GET\"\npath = \"/dome\"\n\
                need = \"role operator or not role operator\"\n";
    fs::write(&file, text).expect("a file");
    let done = vorsel(&["plan", "lint", file.to_str().expect("a path")]);
    assert_eq!(done.status, 0, "{done:?}");
    let shown = done.out.replace(file.to_str().expect("a path"), "access.toml");
    assert_data_eq!(
        shown,
        str![[r#"
access.toml:3:1: warning: no route asks for the role "spare"
  3 | spare = []
    | ^

access.toml:7:8: warning: every signed-in caller fulfils role operator or not role operator; write signed-in if that is meant
  7 | need = "role operator or not role operator"
    |        ^

No mistake in access.toml: 1 route, 0 of them open, 2 warnings

"#]]
    );
}

#[test]
fn a_plan_is_a_table_of_roles_and_routes() {
    let done = vorsel(&["plan", "table", DEMO]);
    assert_eq!(done.status, 0, "{done:?}");
    assert_data_eq!(
        done.out,
        str![[r#"
route                     anyone  no role  visitor  observer  operator  director
GET    /health            open    open     open     open      open      open
GET    /me                -       yes      yes      yes       yes       yes
GET    /me/token          -       yes      yes      yes       yes       yes
GET    /me/reach          -       yes      yes      yes       yes       yes
GET    /exposures         -       if 1     if 1     if 1      if 1      if 1
POST   /exposures         -       -        -        if 2      if 2      if 2
GET    /exposures/{id}    -       if 1     if 1     if 1      if 1      if 1
DELETE /exposures/{id}    -       -        -        if 3      if 3      yes
GET    /dome              -       -        -        -         yes       yes
GET    /dome/live         -       -        -        -         yes       yes
POST   /dome              -       -        -        -         if 4      if 4
POST   /dome/override     -       -        -        -         if 5      if 5
GET    /night-log         -       if 6     -        if 6      if 6      if 6
POST   /night-log         -       -        -        if 7      if 7      if 7
POST   /weather           -       if 8     if 8     if 8      if 8      if 8
GET    /observers/{observer}/proposals
                          -       if 9     if 9     if 9      if 9      yes
POST   /observers/{observer}/proposals
                          -       if 9     if 9     if 9      if 9      yes
GET    /people/{person}/roles
                          -       -        -        -         -         if 10
PUT    /people/{person}/roles
                          -       -        -        -         -         if 11
POST   /sign-in           open    open     open     open      open      open
POST   /oauth/token       open    open     open     open      open      open
POST   /oauth/revoke      open    open     open     open      open      open
GET    /oauth/keys        open    open     open     open      open      open
GET    /.well-known/oauth-authorization-server
                          open    open     open     open      open      open
POST   /oauth/introspect  open    open     open     open      open      open
POST   /oauth/feed        open    open     open     open      open      open
GET    /.well-known/oauth-protected-resource
                          open    open     open     open      open      open
GET    /oauth/sessions    -       yes      yes      yes       yes       yes
DELETE /oauth/sessions    -       yes      yes      yes       yes       yes
DELETE /oauth/sessions/{session}
                          -       yes      yes      yes       yes       yes
POST   /oauth/ticket      -       yes      yes      yes       yes       yes
GET    /                  open    open     open     open      open      open
GET    /page/{file}       open    open     open     open      open      open

 if 1  scope exposures:read
 if 2  claims.confirmed == true and scope exposures:queue
 if 3  claims.confirmed == true and predicate queued-by-caller
 if 4  scope dome:move and claims.training >= 3
 if 5  scope dome:move and claims.training >= 3 and acr in ["phr", "phrh"]
 if 6  scope logs:read
 if 7  claims.confirmed == true and claims.shift in ["dusk", "night", "dawn"]
 if 8  credential api-key and claims.instruments contains "mast"
 if 9  path.observer == sub
if 10  scope people:manage
if 11  scope people:manage and signed-in within 10m and path.person != sub and
       predicate revocations-current

"#]]
    );
    let record = vorsel(&["plan", "table", DEMO, "--json"]).json();
    assert_eq!(record["routes"][10]["reach"]["operator"], "scope dome:move and claims.training >= 3");
    let done = ask(&["DELETE", "/exposures/exp-101"]);
    assert_eq!(done.status, 1, "{done:?}");
    assert_data_eq!(
        done.out,
        str![[r#"
DELETE /exposures/exp-101 → needs-caller (401)
  DELETE /exposures/{id}: need (policy staff and predicate queued-by-caller) or role director
  who may
  anyone    no
  no role   no
  visitor   no
  observer  if claims.confirmed == true and predicate queued-by-caller
  operator  if claims.confirmed == true and predicate queued-by-caller
  director  yes

"#]]
    );
}

/// The page needs no other file and runs no script, and a rule cannot break out of it.
#[test]
fn the_page_stands_alone() {
    let folder = tempfile::tempdir().expect("a folder");
    let (file, page) = (folder.path().join("access.toml"), folder.path().join("page.html"));
    let text = "[[routes]]\nmethod = \"GET\"\npath = \"/dome\"\nneed = 'claims.note == \"<script>\"'\n";
    fs::write(&file, text).expect("a file");
    let done = vorsel(&["plan", "table", file.to_str().expect("a path"), "--html", page.to_str().expect("a path")]);
    assert_eq!(done.status, 0, "{done:?}");
    let page = fs::read_to_string(page).expect("a page");
    assert!(page.contains("claims.note == &quot;&lt;script&gt;&quot;") && page.contains("if 1"), "{page}");
    for outside in ["<script", "http:", "https:", "url(", "@import", "src="] {
        assert!(!page.contains(outside), "{outside}");
    }
}

#[test]
fn two_plans_are_compared_with_an_example_for_each_difference() {
    let folder = tempfile::tempdir().expect("a folder");
    let file = folder.path().join("access.toml");
    let demo = fs::read_to_string(DEMO).expect("the demo plan");
    fs::write(
        &file,
        demo.replace("claims.training >= 3", "claims.training >= 2").replacen("need = \"signed-in\"", "open = true", 1),
    )
    .expect("a file");
    let after = file.to_str().expect("a path");
    let done = vorsel(&["plan", "compare", DEMO, after]);
    assert_eq!(done.status, 1, "{done:?}");
    assert_data_eq!(
        done.out,
        str![[r#"
GET /me
  before  signed-in
  after   open
  gains   anyone

POST /dome
  need    policy dome-crew  (as before; what it names has changed)
  gains   operator  sub "somebody", roles ["operator"], scope "dome:move", training 2
  gains   director  sub "somebody", roles ["director"], scope "dome:move", training 2

POST /dome/override
  need    policy dome-crew and acr in ["phr", "phrh"]  (as before; what it names has changed)
  gains   operator  sub "somebody", roles ["operator"], scope "dome:move", training 2, acr "phr"
  gains   director  sub "somebody", roles ["director"], scope "dome:move", training 2, acr "phr"

somebody gains 3 routes, somebody loses 0 routes

"#]]
    );
    let record = vorsel(&["plan", "compare", DEMO, after, "--json"]).json();
    assert_eq!(record["changes"][1]["gains"][0]["example"]["claims"]["training"], 2);
    let same = vorsel(&["plan", "compare", DEMO, DEMO]);
    assert_eq!((same.status, same.out.as_str()), (0, "Both plans let the same requests through.\n"));
    assert_eq!(vorsel(&["plan", "compare", DEMO, "/nowhere/access.toml"]).status, 2);
}

#[test]
fn credentials_and_predicates_can_be_supposed() {
    let own = ["--role", "observer", "--claim", "confirmed=true"];
    for (arguments, status, verdict) in [
        (&["DELETE", "/exposures/exp-101"][..], 1, "needs-predicate"),
        (&["DELETE", "/exposures/exp-101", "--predicate", "queued-by-caller=yes"], 0, "allowed"),
        (&["DELETE", "/exposures/exp-101", "--predicate", "queued-by-caller=no"], 1, "refused"),
        (&["POST", "/weather", "--claim", "instruments=[\"mast\"]"], 1, "refused"),
        (&["POST", "/weather", "--claim", "instruments=[\"mast\"]", "--credential", "api-key"], 0, "allowed"),
        (&["OPTIONS", "/me"], 1, "options"),
    ] {
        let done = ask(&[arguments, &own, &["--json"]].concat());
        assert_eq!((done.status, &done.json()["verdict"]), (status, &verdict.into()), "{done:?}");
    }
    assert_eq!(ask(&["GET", "/me", "--credential", "badge"]).status, 2);
    assert_eq!(ask(&["GET", "/me", "--predicate", "queued-by-caller"]).status, 2);
}
