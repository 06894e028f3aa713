//! Keys without a folder that instances can write to: sealed in the store, or in a folder that is mounted to be read only.
#![cfg(unix)]

use std::fs::{self, Permissions};
use std::os::unix::fs::PermissionsExt;
use std::path::Path;
use std::process::{Command, Stdio};
use std::time::{Duration, Instant};

use reqwest::Method;
use vorsel::IssuerKeys;

mod common;
#[path = "common/instance.rs"]
mod instance;
use common::{Done, vorsel};
use instance::{Caller, Instance};

async fn status(caller: &Caller, token: &str) -> Option<u16> {
    caller.status(Method::GET, "/me", token).await.ok()
}

#[tokio::test]
async fn keys_in_the_store_are_rolled_and_withdrawn_by_the_command_while_instances_run() {
    let folder = tempfile::tempdir().expect("a folder");
    let path = |name: &str| folder.path().join(name).to_str().expect("a path").to_owned();
    let (store, secret) = (format!("sqlite:{}", path("sessions.sqlite")), path("secret"));
    let keys = |action: &[&str]| -> Done {
        let (name, rest) = action.split_first().expect("an action");
        vorsel(&[&["keys", *name, "--store", &store, "--keys-secret", &secret], rest].concat())
    };
    assert_eq!(vorsel(&["keys", "secret", "--out", &secret]).status, 0);
    assert_eq!(fs::metadata(&secret).expect("a file").permissions().mode() & 0o777, 0o600);
    let missing = keys(&["list"]);
    assert!(missing.status == 2 && missing.err.contains("expected a file with sessions"), "{missing:?}");

    let start = || Instance::listening("127.0.0.1:0", &["--store", &store, "--keys-secret", &secret]);
    let [one, other] = [start(), start()].map(|instance| (instance.caller(), instance));
    let (access, refresh) = one.0.sign_in("obs-0017").await;
    assert_eq!(status(&other.0, &access).await, Some(200));
    let listed = keys(&["list", "--json"]).json();
    let leaked = listed["access"]["keys"][0]["kid"].as_str().expect("a key").to_owned();
    assert_eq!(keys(&["roll"]).status, 0);
    let done = keys(&["compromise", &leaked]);
    assert_eq!(done.status, 0, "{done:?}");
    let deadline = Instant::now() + Duration::from_secs(5);
    while status(&one.0, &access).await != Some(401) || status(&other.0, &access).await != Some(401) {
        assert!(Instant::now() < deadline, "the withdrawal is noticed");
        tokio::time::sleep(Duration::from_millis(50)).await;
    }
    let (code, renewed) = other.0.renew(&refresh).await.expect("an answer");
    assert_eq!((code, status(&one.0, renewed["access_token"].as_str().expect("a token")).await), (200, Some(200)));

    let wrong = path("wrong");
    assert_eq!(vorsel(&["keys", "secret", "--out", &wrong]).status, 0);
    let refused = vorsel(&["keys", "list", "--store", &store, "--keys-secret", &wrong]);
    assert!(refused.status == 2 && refused.err.contains("they were sealed with another secret"), "{refused:?}");
    fs::write(&wrong, "too short\n").expect("a file");
    let refused = vorsel(&["keys", "list", "--store", &store, "--keys-secret", &wrong]);
    assert!(refused.status == 2 && refused.err.contains("expected 32 random bytes or more"), "{refused:?}");
    // A folder is not taken for the store that was forgotten.
    let folder = path("keys");
    let forgotten = vorsel(&["keys", "roll", "--keys", &folder, "--keys-secret", &secret]);
    assert!(
        forgotten.status == 2 && forgotten.err.contains("expected --keys FOLDER, or --store STORE"),
        "{forgotten:?}"
    );
    let nowhere =
        Command::new(env!("CARGO_BIN_EXE_vorsel")).args(["keys", "list"]).env_remove("VORSEL_KEYS_FOLDER").output();
    let told = String::from_utf8(nowhere.expect("the command").stderr).expect("text");
    assert!(told.contains("expected --keys FOLDER, or --store STORE with --keys-secret FILE"), "{told}");
}

/// What keeps an instance from writing: its user, since root writes anywhere.
#[tokio::test]
async fn a_folder_that_can_only_be_read_is_enough_for_an_instance_that_takes_no_step() {
    let folder = tempfile::tempdir().expect("a folder");
    let keys = folder.path().join("keys");
    drop(IssuerKeys::in_folder(&keys).expect("keys"));
    fs::remove_file(keys.join("access-keys.lock")).expect("the lock");
    fs::remove_file(keys.join("refresh-keys.lock")).expect("the lock");
    let is_root = Command::new("id").arg("-u").output().expect("id").stdout.starts_with(b"0\n");
    let mode = |path: &Path, mode| fs::set_permissions(path, Permissions::from_mode(mode)).expect("a mode");
    let mut command = Command::new(if is_root { "setpriv" } else { env!("CARGO_BIN_EXE_vorsel") });
    let program = folder.path().join("vorsel");
    if is_root {
        // Where this is built may be closed to others.
        fs::copy(env!("CARGO_BIN_EXE_vorsel"), &program).expect("a copy");
        mode(folder.path(), 0o755);
        let owned = Command::new("chown").args(["-R", "65534:65534"]).arg(&keys).status().expect("chown");
        assert!(owned.success());
        command.args(["--reuid=65534", "--regid=65534", "--clear-groups"]).arg(&program);
    }
    for name in [IssuerKeys::ACCESS, IssuerKeys::REFRESH] {
        mode(&keys.join(name), 0o400);
    }
    mode(&keys, 0o500);
    let path = keys.to_str().expect("a path").to_owned();
    let instance = Instance::begun(command, Stdio::null(), "127.0.0.1:0", &["--keys", &path]);
    let (access, _) = instance.caller().sign_in("obs-0017").await;
    assert_eq!(status(&instance.caller(), &access).await, Some(200));
    assert_eq!(fs::read_dir(&keys).expect("the folder").count(), 2, "nothing was written");
    mode(&keys, 0o700);
}
