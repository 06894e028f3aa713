//! The settings file behind the options of the command, and the small commands for seed data.

use std::fs;

use serde_json::{Value, json};

mod common;
use common::{vorsel, vorsel_with};
#[path = "common/instance.rs"]
mod instance;
use instance::Instance;

#[tokio::test]
async fn what_the_file_says_stands_behind_the_options_of_every_command() {
    let folder = tempfile::tempdir().expect("a folder");
    let path = |name: &str| folder.path().join(name).display().to_string();
    fs::write(
        path("vorsel.toml"),
        "issuer = \"https://other.skarnhill.test\"\naudience = \"https://api.skarnhill.test\"\nplan = \"access.toml\"\n\
         [keys]\nfolder = \"ring\"\n[store]\naddress = \"sqlite:hill.sqlite\"\n[lifetimes]\naccess = \"2m\"\n",
    )
    .expect("a file");
    fs::copy(concat!(env!("CARGO_MANIFEST_DIR"), "/../../demo/access.toml"), path("access.toml")).expect("the plan");
    let settings = path("vorsel.toml");
    let mut server = Instance::listening("127.0.0.1:0", &["--settings", &settings]);
    let (token, _) = server.caller().sign_in("obs-0017").await;
    assert_eq!(server.caller().status(reqwest::Method::GET, "/me", &token).await.expect("an answer"), 200);
    let set = server.client.get(format!("{}/oauth/keys", server.base)).send().await.expect("an answer");
    assert_eq!(set.status(), 200);
    let url = format!("{}/oauth/keys", server.base);
    let shown = tokio::task::spawn_blocking(move || vorsel(&["keys", "show", &url, "--json"])).await.expect("no panic");
    assert_eq!(server.stop(), Some(0));

    // Its keys, its store, its plan, its issuer and audience, wherever the command runs.
    let keys = vorsel(&["--settings", &settings, "keys", "list", "--json"]).json();
    assert_eq!(shown.json()["keys"][0]["kid"], keys["access"]["keys"][0]["kid"], "{shown:?}");
    let sessions = vorsel(&["sessions", "list", "--json", "--settings", &settings]);
    assert!(sessions.status == 0 && sessions.out.contains("obs-0017"), "{sessions:?}");
    let table = vorsel(&["--settings", &settings, "plan", "table"]);
    assert!(table.status == 0 && table.out.contains("/night-log"), "{table:?}");
    let explained = vorsel_with(&["--settings", &settings, "explain", "--json"], token.as_bytes());
    assert_eq!(explained.status, 0, "{explained:?}");
    let claims: Value = serde_json::from_str(&explained.out).expect("JSON");
    assert!(claims.to_string().contains("https://other.skarnhill.test"), "{claims}");
    // The file of a keyring does as well as its folder, and an option goes before the file.
    let file = path("ring/access-keys.json");
    let issued =
        vorsel(&["--settings", &settings, "issue", "--subject", "ope-0002", "--keys", &file, "--lifetime", "90s"]);
    let explained = vorsel_with(
        &["explain", "--keys", &file, "--issuer", "https://other.skarnhill.test"],
        issued.out.trim().as_bytes(),
    );
    assert_eq!(explained.status, 0, "{explained:?}");
    let wrong = ["--settings", &settings, "explain", "--issuer", "https://id.skarnhill.test"];
    assert_eq!(vorsel_with(&wrong, issued.out.trim().as_bytes()).status, 1);

    let misspelt = std::process::Command::new(env!("CARGO_BIN_EXE_vorsel"))
        .args(["--settings", &settings, "keys", "list"])
        .env("VORSEL_STORE_ADRESS", "memory:")
        .output()
        .expect("the command");
    let said = String::from_utf8_lossy(&misspelt.stderr).into_owned();
    assert!(misspelt.status.success() && said.contains("did you mean \"VORSEL_STORE_ADDRESS\"?"), "{said}");

    fs::write(path("wrong.toml"), "isuer = \"a\"\n[store]\naddress = \"mysql://hunter2@h\"\n").expect("a file");
    let wrong = vorsel(&["--settings", &path("wrong.toml"), "keys", "list"]);
    assert!(wrong.status == 2 && wrong.err.contains("wrong.toml:1:1: unknown setting"), "{wrong:?}");
    assert!(
        wrong.err.contains("wrong.toml:3:1: store.address: expected memory:") && !wrong.err.contains("hunter2"),
        "{wrong:?}"
    );
    let missing = vorsel(&["--settings", "/nowhere/vorsel.toml", "keys", "list"]);
    assert!(
        missing.status == 2 && missing.err.contains("cannot read the settings /nowhere/vorsel.toml"),
        "{missing:?}"
    );
}

#[test]
fn keys_and_hashes_for_seed_data_are_made_by_command() {
    let made = vorsel(&["keys", "api-key", "--json"]).json();
    let key = made["key"].as_str().expect("a key");
    assert_eq!(made["hash"], json!(vorsel::ApiKeyHash::of(key).to_string()));
    assert_ne!(vorsel(&["keys", "api-key", "--json"]).json()["key"], made["key"]);
    let hash = vorsel_with(&["password"], b"a dome in the rain\n");
    assert!(hash.status == 0 && hash.out.starts_with("$argon2id$v=19$m=19456,t=2,p=1$"), "{hash:?}");
    assert_ne!(vorsel_with(&["password"], b"a dome in the rain").out, hash.out, "each has a salt of its own");
    for input in [&b"\n"[..], b"", &[b'a'; 2_000]] {
        let wrong = vorsel_with(&["password"], input);
        assert!(wrong.status == 2 && wrong.err.contains("expected a password of 1 to 1024 bytes"), "{wrong:?}");
    }
}

#[test]
fn public_keys_are_shown_and_what_is_none_is_refused() {
    let folder = tempfile::tempdir().expect("a folder");
    let path = |name: &str| folder.path().join(name).display().to_string();
    let public = vorsel(&["keys", "make", "--algorithm", "ES256", "--out", &path("hill.jwk")]).out;
    let odd = json!({ "kty": "OKP", "crv": "X25519", "x": "AAAA" });
    let set = json!({ "keys": [serde_json::from_str::<Value>(&public).expect("a key"), odd] });
    fs::write(path("set.json"), set.to_string()).expect("a file");
    let shown = vorsel(&["keys", "show", &path("set.json")]);
    assert!(shown.status == 0 && shown.out.contains("ES256") && shown.out.contains("left out: key 1"), "{shown:?}");
    fs::write(path("none"), "no keys").expect("a file");
    for (place, message) in [
        (path("none"), "expected a JWK Set, a JWK or PEM, but found other text"),
        (path("nothing"), "cannot read"),
        ("http://id.skarnhill.test/keys".to_owned(), "expected an address that begins with https://"),
        ("http://127.0.0.1:1/keys".to_owned(), "cannot fetch http://127.0.0.1:1/keys"),
        ("https://".to_owned(), "empty host"),
    ] {
        let wrong = vorsel(&["keys", "show", &place]);
        assert!(wrong.status == 2 && wrong.err.contains(message), "{place}: {wrong:?}");
    }
}
