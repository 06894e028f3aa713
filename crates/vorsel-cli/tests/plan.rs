//! `vorsel plan lint` and `vorsel plan ask`.

use std::fs;

use snapbox::{assert_data_eq, str};

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
    assert!(done.out.starts_with("No mistake in ") && done.out.ends_with("15 routes, 6 of them open\n"), "{done:?}");
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

access.toml:5:28: expected signed-in, role, scope, policy, not, a parenthesis or a comparison of sub, acr, claims.… or path.…, but found the end of the rule
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
