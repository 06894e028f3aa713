//! `vorsel keys list`, `roll`, `activate`, `compromise` and `destroy` on a key folder.
#![cfg(unix)]

use std::fs::{self, Permissions};
use std::os::unix::fs::PermissionsExt;
use std::path::Path;
use std::time::Duration;

use serde_json::Value;
use vorsel::{Algorithm, IssuerKeys, KeyTimes, Keyring, SigningKey, Timestamp, now};

mod common;
use common::{Done, vorsel};

const HOUR: Duration = Duration::from_secs(3_600);

fn ring(algorithm: Algorithm, kid: &str, since: Timestamp) -> Keyring {
    let key = SigningKey::generate(algorithm).expect("a key").named(kid);
    Keyring::new(key, KeyTimes::default(), since)
}

fn write(folder: &Path, name: &str, ring: &Keyring) {
    let path = folder.join(name);
    fs::write(&path, ring.to_private_text().expect("a text").as_bytes()).expect("a file");
    fs::set_permissions(path, Permissions::from_mode(0o600)).expect("a mode");
}

/// A folder whose access keys were rolled three hours ago, and again just now.
fn folder() -> tempfile::TempDir {
    let folder = tempfile::tempdir().expect("a folder");
    let key = |kid: &str| SigningKey::generate(Algorithm::EdDsa).expect("a key").named(kid);
    let mut access = ring(Algorithm::EdDsa, "dusk-key", now().before(4 * HOUR));
    access.roll(key("night-key"), now().before(3 * HOUR)).expect("rolled");
    access.roll(key("dawn-key"), now()).expect("rolled");
    write(folder.path(), IssuerKeys::ACCESS, &access);
    write(folder.path(), IssuerKeys::REFRESH, &ring(Algorithm::Hs256, "-refresh-key", now().before(HOUR)));
    folder
}

fn keys(folder: &Path, action: &[&str]) -> Done {
    let (name, rest) = action.split_first().expect("an action");
    vorsel(&[&["keys", *name, "--keys", folder.to_str().expect("a path")], rest].concat())
}

/// The states of the access keys by their IDs.
fn states(folder: &Path) -> Vec<(String, String)> {
    let listed = keys(folder, &["list", "--json"]).json();
    let text = |value: &Value| value.as_str().expect("a text").to_owned();
    let all = listed["access"]["keys"].as_array().expect("keys");
    all.iter().map(|key| (text(&key["kid"]), text(&key["state"]))).collect()
}

#[test]
fn keys_are_listed_with_their_states_and_dates() {
    let folder = folder();
    let listed = keys(folder.path(), &["list"]);
    for expected in [
        "Keys for access tokens  for tokens that last up to 1 hour, with key sets kept for 5 minutes",
        "deactivated  dusk-key                                     EdDSA",
        "active       night-key",
        "pre-active   dawn-key",
        "(4 hours ago)",
        "destroyable   now: all that it signed has expired",
        "signs from    20",
        "(in 5 minutes)",
        "Keys for refresh tokens",
    ] {
        assert!(listed.out.contains(expected), "{expected}: {}", listed.out);
    }
    assert!(!listed.out.contains("\"d\""), "no private part is shown");
    let listed = keys(folder.path(), &["list", "--json"]).json();
    let access = &listed["access"];
    assert_eq!((&access["longest_lifetime"], &access["cache_time"]), (&3_600.into(), &300.into()));
    assert_eq!(access["keys"][0]["deactivated_at"], access["keys"][1]["active_from"]);
    assert_eq!(listed["refresh"]["keys"][0]["kid"], "-refresh-key");
}

#[test]
fn steps_are_taken_or_refused_with_their_date() {
    let folder = folder();
    let folder = folder.path();
    for (action, status, said) in [
        (&["activate", "dawn-key"][..], 1, "refused: key \"dawn-key\" cannot sign before 20"),
        (&["destroy", "night-key"], 1, "refused: key \"night-key\" cannot be destroyed before 20"),
        (&["destroy", "-ref"], 1, "refused: key \"-refresh-key\" cannot be destroyed: it is active"),
        (&["destroy", "dusk"], 0, "dusk-key is destroyed\n"),
        (&["destroy", "dusk-key"], 1, "refused: key \"dusk-key\" cannot be destroyed: it is destroyed"),
        (&["compromise", "noon-key"], 2, "error: expected the ID of a key in "),
        (&["destroy", "d"], 2, "error: expected the ID of one key, but \"d\" begins 2 of them"),
        (&["roll", "--algorithm", "HS256"], 1, "refused: expected a key of the same family as the others"),
        (&["roll", "--for", "refresh"], 0, " is published and signs from 20"),
        (&["compromise", "night-key"], 0, "night-key is refused from now on, with all that it signed\n"),
    ] {
        let done = keys(folder, action);
        assert_eq!(done.status, status, "{action:?}: {done:?}");
        assert!(format!("{}{}", done.out, done.err).contains(said), "{said}: {done:?}");
    }
    let states = states(folder);
    let names: Vec<_> = states.iter().map(|(_, state)| state.as_str()).collect();
    assert_eq!(names, ["destroyed", "compromised", "pre-active", "active"], "a new key has taken over at once");
    let file = fs::read_to_string(folder.join(IssuerKeys::ACCESS)).expect("a file");
    assert_eq!(file.matches("\"d\":").count(), 2, "what is withdrawn is not kept");
}

#[test]
fn a_folder_without_keyrings_is_a_wrong_call_and_stays_as_it_is() {
    let folder = tempfile::tempdir().expect("a folder");
    for action in [&["list"][..], &["roll"], &["destroy", "key"]] {
        let done = keys(folder.path(), action);
        assert_eq!(done.status, 2, "{done:?}");
        assert!(done.err.contains("access-keys.json, but it is not there"), "{done:?}");
    }
    assert_eq!(fs::read_dir(folder.path()).expect("the folder").count(), 0);
}
