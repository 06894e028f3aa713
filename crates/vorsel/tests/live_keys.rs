//! Key files: made once, shared by many, closed to others; and steps that everything follows.
#![cfg(unix)]

use std::fs::{self, Permissions};
use std::os::unix::fs::PermissionsExt;
use std::sync::atomic::{AtomicU32, Ordering};
use std::thread;
use std::time::{Duration, Instant};

use vorsel::{
    AccessDraft, Algorithm, Checker, Expectations, Issuer, IssuerKeys, KeyFileError, KeyStepError, KeyTimes, Keyring,
    Lifetime, LiveKeyring, NoOwn, SigningKey, StepError, Timestamp, now,
};

const ISSUER: &str = "https://id.skarnhill.test";
const AUDIENCE: &str = "https://api.skarnhill.test";

fn draft() -> AccessDraft {
    AccessDraft::of("obs-0017").audience(AUDIENCE).client("desk").lasting(Lifetime::minutes(5))
}

fn key() -> SigningKey {
    SigningKey::generate(Algorithm::EdDsa).expect("a key")
}

fn checker(keys: &LiveKeyring) -> Checker<NoOwn> {
    Checker::new(keys.clone(), Expectations::access(ISSUER, AUDIENCE))
}

fn ids(keys: &LiveKeyring) -> Vec<String> {
    keys.current().keys().iter().map(|key| key.key_id().to_owned()).collect()
}

fn eventually(what: &str, holds: impl Fn() -> bool) {
    let start = Instant::now();
    while !holds() {
        assert!(start.elapsed() < Duration::from_secs(20), "{what}");
        thread::sleep(Duration::from_millis(20));
    }
}

#[test]
fn many_that_come_at_once_get_the_same_keys() {
    let folder = tempfile::tempdir().expect("a folder");
    let keys = folder.path().join("new/keys");
    let openings: Vec<_> = (0..8)
        .map(|_| {
            let keys = keys.clone();
            thread::spawn(move || {
                let keys = IssuerKeys::in_folder(keys).expect("keys");
                (ids(&keys.access), ids(&keys.refresh))
            })
        })
        .collect();
    let seen: Vec<_> = openings.into_iter().map(|opening| opening.join().expect("no panic")).collect();
    assert!(seen.iter().all(|ids| *ids == seen[0]), "{seen:?}");
    let mode = |path| fs::metadata(path).expect("a file").permissions().mode() & 0o777;
    assert_eq!(mode(keys.clone()), 0o700);
    for file in fs::read_dir(&keys).expect("the folder") {
        let path = file.expect("a file").path();
        assert!(path.extension().is_some_and(|kind| kind == "json" || kind == "lock"), "no drafts are left: {path:?}");
        assert_eq!(mode(path), 0o600);
    }
}

#[test]
fn files_that_others_can_read_or_that_hold_no_keyring_are_refused() {
    let folder = tempfile::tempdir().expect("a folder");
    let keys = IssuerKeys::in_folder(folder.path()).expect("keys");
    let file = folder.path().join(IssuerKeys::ACCESS);
    fs::set_permissions(&file, Permissions::from_mode(0o640)).expect("a mode");
    let error = IssuerKeys::in_folder(folder.path()).expect_err("exposed");
    assert!(matches!(error, KeyFileError::Exposed { mode: 0o640, .. }), "{error}");
    let error = keys.access.change(|ring| ring.roll(key(), now())).expect_err("exposed");
    assert!(matches!(error, KeyStepError::File(KeyFileError::Exposed { .. })), "{error}");
    fs::set_permissions(&file, Permissions::from_mode(0o600)).expect("a mode");
    fs::write(&file, "{}").expect("a file");
    let error = IssuerKeys::in_folder(folder.path()).expect_err("no keyring");
    assert!(matches!(error, KeyFileError::Text { .. }), "{error}");
    assert_eq!(ids(&keys.access).len(), 1, "what is in use stays as it is");
}

#[test]
fn a_step_of_one_instance_is_taken_up_by_the_others() {
    let folder = tempfile::tempdir().expect("a folder");
    let [one, other] = [(); 2].map(|()| IssuerKeys::in_folder(folder.path()).expect("keys").access);
    let (check, issuer) = (checker(&other), Issuer::new(ISSUER, Keyring::clone(&one.current())));
    let token = issuer.access(&draft(), "t1", now()).expect("a token");
    check.check(&token, now()).expect("accepted");
    // Both take a step before either knows of the other's.
    one.change(|ring| ring.roll(key(), now())).expect("rolled");
    other.change(|ring| ring.roll(key(), now())).expect("rolled");
    assert_eq!(ids(&other).len(), 3, "no step is lost");
    eventually("the other's step", || ids(&one) == ids(&other));

    let leaked = ids(&one)[0].clone();
    one.change(|ring| ring.compromise(&leaked, now())).expect("compromised");
    eventually("the compromised key's token is refused", || check.check(&token, now()).is_err());
}

#[test]
fn a_broken_file_leaves_the_keys_as_they_are_until_it_is_mended() {
    let folder = tempfile::tempdir().expect("a folder");
    let keys = IssuerKeys::in_folder(folder.path()).expect("keys").access;
    let file = folder.path().join(IssuerKeys::ACCESS);
    let good = fs::read_to_string(&file).expect("a file");
    fs::write(&file, &good[..good.len() / 2]).expect("a file");
    assert!(keys.change(|ring| ring.roll(key(), now())).is_err());
    thread::sleep(Duration::from_millis(1_200));
    assert!(keys.current().signing_key(now()).is_some());
    let mut mended = Keyring::from_private_text(&good).expect("a keyring");
    mended.roll(key(), now()).expect("rolled");
    fs::write(&file, mended.to_private_text().expect("a text").as_bytes()).expect("a file");
    eventually("the mended file", || ids(&keys).len() == 2);
}

/// The running instance keeps what it knows, mends the file, and the one that starts later knows it too.
#[test]
fn a_file_that_is_replaced_is_mended_by_whoever_knows_better() {
    let folder = tempfile::tempdir().expect("a folder");
    let open = || IssuerKeys::in_folder(folder.path()).expect("keys").access;
    let (running, file) = (open(), folder.path().join(IssuerKeys::ACCESS));
    let copy = fs::read_to_string(&file).expect("a file");
    let first = ids(&running)[0].clone();
    let token = Issuer::new(ISSUER, Keyring::clone(&running.current())).access(&draft(), "t1", now()).expect("a token");
    running.change(|ring| ring.roll(key(), now())).expect("rolled");
    let leaked = ids(&running)[1].clone();
    running.change(|ring| ring.compromise(&leaked, now())).expect("compromised");
    thread::sleep(Duration::from_millis(600));

    fs::write(&file, &copy).expect("an older copy");
    eventually("the withdrawal is in the file again", || {
        fs::read_to_string(&file).is_ok_and(|text| text.contains("compromised_at"))
    });
    assert_eq!(open().current().state(&leaked, now()), Some(vorsel::KeyState::Compromised));

    // The folder is lost, and an instance that starts makes new keys.
    fs::remove_file(&file).expect("a file");
    let started = open();
    assert_eq!(ids(&started).len(), 1);
    eventually("both have all keys", || ids(&started).len() == 3 && ids(&running) == ids(&started));
    checker(&started).check(&token, now()).expect("accepted by an instance that never had its key");
    assert_eq!(running.current().signing_key(now()).expect("a key").key_id(), first, "until the new key is known");

    // A step on a file that was replaced in the meantime loses nothing either.
    fs::write(&file, &copy).expect("an older copy");
    running.change(|ring| ring.roll(key(), now())).expect("rolled");
    assert_eq!(ids(&open()).len(), 4);
}

#[test]
fn a_refused_step_says_from_when_on_it_is_safe() {
    let keys = LiveKeyring::from(Keyring::new(key(), KeyTimes::default(), now()));
    let first = ids(&keys)[0].clone();
    keys.change(|ring| ring.roll(key(), now())).expect("rolled");
    let refused = keys.change(|ring| ring.destroy(&first, now())).expect_err("too early");
    let KeyStepError::Step(StepError::DestroyedTooEarly { earliest, .. }) = refused else { panic!("{refused}") };
    assert!(earliest > now());
}

/// Issuers sign and verifiers check without a pause while the keys are rolled through. A clock that jumps lets hours pass
/// in a second; a verifier elsewhere fetches the key set once in a cache time.
#[test]
fn rolling_under_way_refuses_no_token_and_a_compromise_refuses_all() {
    const TOKENS: u32 = 10_000;
    let times = KeyTimes::default();
    let keys = LiveKeyring::from(Keyring::new(key(), times, now()));
    let (here, start, issued) = (checker(&keys), now(), AtomicU32::new(0));
    // Each token moves time on by a second.
    let clock = |count: u32| start.after(Duration::from_secs(count.into()));
    let issue = |at: Timestamp| {
        let ring = keys.current();
        let key = ring.signing_key(at).expect("a key").key_id().to_owned();
        (key, Issuer::new(ISSUER, Keyring::clone(&ring)).access(&draft(), "t1", at).expect("a token"))
    };
    let signers = thread::scope(|scope| {
        let rolls = scope.spawn(|| {
            let mut rolled = 0;
            while issued.load(Ordering::SeqCst) < TOKENS {
                let at = clock(issued.load(Ordering::SeqCst));
                let ring = keys.current();
                if ring.keys().iter().all(|key| key.active_from().is_some_and(|from| from <= at)) {
                    keys.change(|ring| ring.roll(key(), at)).expect("rolled");
                    rolled += 1;
                }
                for old in ring.keys().iter().filter(|key| ring.deactivated_at(key.key_id()).is_some()) {
                    drop(keys.change(|ring| ring.destroy(old.key_id(), at)));
                }
                thread::yield_now();
            }
            rolled
        });
        let elsewhere = scope.spawn(|| {
            let (mut fetched, mut cached) = (clock(0), keys.current().key_set());
            let mut signers = Vec::new();
            loop {
                let count = issued.fetch_add(1, Ordering::SeqCst);
                if count >= TOKENS {
                    return signers;
                }
                let (at, (signer, token)) = (clock(count), issue(clock(count)));
                here.check(&token, at).unwrap_or_else(|finding| panic!("token {count} here: {finding}"));
                let expectations = Expectations::access(ISSUER, AUDIENCE);
                let verifier = vorsel::Verifier::new(cached.clone(), expectations);
                verifier.check(&token, at).unwrap_or_else(|finding| panic!("token {count} elsewhere: {finding}"));
                if at.distance(fetched) >= times.cache_time - Duration::from_secs(1) {
                    (fetched, cached) = (at, keys.current().key_set());
                }
                if signers.last() != Some(&signer) {
                    signers.push(signer);
                }
            }
        });
        assert!(rolls.join().expect("no panic") >= 5, "the keys were rolled under way");
        elsewhere.join().expect("no panic")
    });
    let gone = keys.current().keys().iter().filter(|key| key.destroyed_at().is_some()).count();
    assert!(gone >= 3, "{gone} keys were destroyed under way");
    assert!(signers.len() >= 5, "{} keys signed", signers.len());

    let at = clock(TOKENS);
    let tokens: Vec<_> = (0..100).map(|_| issue(at)).collect();
    tokens.iter().for_each(|(_, token)| drop(here.check(token, at).expect("accepted")));
    let leaked = &tokens[0].0;
    keys.change(|ring| ring.compromise(leaked, at).and_then(|()| ring.roll(key(), at))).expect("replaced");
    for (_, token) in &tokens {
        let finding = here.check(token, at).expect_err("the key is compromised");
        assert_eq!(finding.check.code(), "unknown-key", "{finding}");
    }
    here.check(issue(at).1, at).expect("the new key signs at once");
}
