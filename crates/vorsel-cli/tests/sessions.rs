//! `vorsel sessions` on the store of a running server: what it lists and draws, and that what it ends is ended there.
#![cfg(unix)]

use std::time::Duration;

use reqwest::Method;
use serde_json::Value;

mod common;
#[path = "common/instance.rs"]
mod instance;
use common::{Done, vorsel};
use instance::Instance;

struct Desk {
    store: String,
    server: Instance,
    _folder: tempfile::TempDir,
}

impl Desk {
    fn new() -> Self {
        let folder = tempfile::tempdir().expect("a folder");
        let store = format!("sqlite:{}", folder.path().join("sessions.sqlite").display());
        let server = Instance::listening("127.0.0.1:0", &["--store", &store, "--retry-window", "0"]);
        Self { store, server, _folder: folder }
    }

    fn sessions(&self, arguments: &[&str]) -> Done {
        vorsel(&[&["sessions"], arguments, &["--store", &self.store]].concat())
    }

    fn listed(&self, more: &[&str]) -> Vec<Value> {
        let done = self.sessions(&[&["list", "--json"], more].concat());
        assert_eq!(done.status, 0, "{done:?}");
        done.json()["sessions"].as_array().expect("sessions").clone()
    }

    /// Waits until the server refuses the token.
    async fn refused(&self, token: &str) {
        for _ in 0..400 {
            if self.server.caller().status(Method::GET, "/me", token).await.expect("an answer") == 401 {
                return;
            }
            tokio::time::sleep(Duration::from_millis(25)).await;
        }
        panic!("the server still lets the token in");
    }
}

#[tokio::test]
async fn sessions_are_listed_and_drawn_with_their_replay() {
    let desk = Desk::new();
    assert_eq!(desk.sessions(&["list"]).out, "No sessions.\n");
    let caller = desk.server.caller();
    let (_, first) = caller.sign_in("obs-0017").await;
    let mut token = first.clone();
    for _ in 0..3 {
        let (status, reply) = caller.renew(&token).await.expect("an answer");
        assert_eq!(status, 200);
        token = reply["refresh_token"].as_str().expect("a token").to_owned();
    }
    caller.sign_in("ope-0002").await;
    assert_eq!(caller.renew(&first).await.expect("an answer").0, 400, "a replay");

    let all = desk.listed(&[]);
    let told: Vec<_> = all.iter().map(|one| (one["subject"].as_str(), one["state"].as_str())).collect();
    assert_eq!(told, [(Some("obs-0017"), Some("replay")), (Some("ope-0002"), Some("live"))]);
    assert_eq!(desk.listed(&["--live"]).len(), 1);
    assert_eq!(desk.listed(&["--subject", "obs-0017"])[0]["renewals"], 3);
    let text = desk.sessions(&["list"]).out;
    let lines: Vec<_> = text.lines().collect();
    assert!(lines[0].starts_with("Session ") && lines.len() == 3, "{text}");
    assert!(lines[1].ends_with("3  replay") && lines[2].contains("0  live for 13 days"), "{text}");

    let id = all[0]["session"].as_str().expect("an id");
    let shown = desk.sessions(&["show", id]);
    assert_eq!(shown.status, 0);
    let line = shown.out.lines().find(|line| line.contains('├')).expect("the line of the session");
    assert!(line.trim_end().ends_with('✗') && line.contains('┼'), "{line}");
    for told in
        ["device     –", "renewed    3 times", "     0  signed in   ", "     3  renewed     ", "replay      a spent"]
    {
        assert!(shown.out.contains(told), "{told}: {}", shown.out);
    }
    let record = desk.sessions(&["show", id, "--json"]).json();
    let renewals = record["last_renewals"].as_array().expect("renewals");
    assert_eq!(renewals.iter().map(|one| one["generation"].as_u64()).collect::<Vec<_>>(), [Some(1), Some(2), Some(3)]);
    assert!(!shown.out.contains("eyJ") && !record.to_string().contains("secret"));
}

#[tokio::test]
async fn what_is_ended_at_the_desk_is_ended_at_the_server() {
    let desk = Desk::new();
    let caller = desk.server.caller();
    for way in ["session", "subject", "before"] {
        let (access, refresh) = caller.sign_in("obs-0017").await;
        assert_eq!(caller.status(Method::GET, "/me", &access).await.expect("an answer"), 200, "{way}");
        let live = desk.listed(&["--live"]);
        let id = live[0]["session"].as_str().expect("an id");
        let arguments: &[&str] = match way {
            "session" => &["end", id],
            "subject" => &["end", "--subject", "obs-0017"],
            _ => &["end", "--before", "now", "--remember", "600"],
        };
        let done = desk.sessions(arguments);
        let said = match way {
            "before" => "Ended: every session of that time; how many there were is not counted\n",
            _ => "Ended: 1 session\n",
        };
        assert_eq!((done.status, done.out.as_str()), (0, said), "{way}");
        desk.refused(&access).await;
        assert_eq!(caller.renew(&refresh).await.expect("an answer").0, 400, "{way}");
        let again = desk.sessions(arguments);
        assert_eq!(again.status, i32::from(way != "before"), "nothing was left to end: {again:?}");
    }
    // Who signs in after that is not meant.
    let (access, _) = caller.sign_in("obs-0017").await;
    assert_eq!(caller.status(Method::GET, "/me", &access).await.expect("an answer"), 200);
    let done = desk.sessions(&["end", "--before", "1700000000", "--json"]);
    assert_eq!((done.status, done.json()["ended"].is_null()), (0, true));
}

#[test]
fn calls_that_cannot_be_carried_out_say_why() {
    for (arguments, message) in [
        (&["sessions", "list"][..], "which store? expected --store STORE, or VORSEL_STORE_ADDRESS"),
        (&["sessions", "list", "--store", "memory:"], "are known to their process alone"),
        (
            &["sessions", "list", "--store", "sqlite:/nowhere/x"],
            "expected a file with sessions, but found none at /nowhere/x",
        ),
        (&["sessions", "list", "--store", "hill"], "expected memory:, sqlite:PATH, postgres://"),
        (&["sessions", "end", "--store", "memory:"], "required arguments were not provided"),
        (&["sessions", "end", "s1", "--subject", "obs-0017", "--store", "memory:"], "cannot be used with"),
        (&["sessions", "end", "--before", "soon", "--store", "memory:"], "expected seconds since 1970, or now"),
    ] {
        let done = vorsel(arguments);
        assert!(done.status == 2 && done.out.is_empty() && done.err.contains(message), "{arguments:?}: {done:?}");
    }
    let desk = Desk::new();
    let done = desk.sessions(&["show", "-nobody"]);
    assert_eq!((done.status, done.err.as_str()), (1, "No session -nobody is kept.\n"));
    let done = desk.sessions(&["end", "--before", "99999999999"]);
    assert!(done.status == 2 && done.err.contains("expected a moment up to now, "), "{done:?}");
}
