//! Rolls the signing key with nobody noticing, and withdraws one that has leaked. Time is handed in, so an hour passes at
//! once; with `IssuerKeys::in_folder` the same keyring is kept in a file that several instances share.
//!
//! `cargo run -p vorsel-examples --example roll_keys`

use std::time::Duration;

use vorsel::{
    AccessDraft, Algorithm, Checker, Expectations, Issuer, KeyTimes, Keyring, Lifetime, LiveKeyring, NoOwn, SigningKey,
    Timestamp, now,
};

const ISSUER: &str = "https://id.skarnhill.test";
const AUDIENCE: &str = "https://api.skarnhill.test";

fn token(keys: &LiveKeyring, at: Timestamp) -> Result<String, Box<dyn std::error::Error>> {
    let draft = AccessDraft::of("obs-0017").audience(AUDIENCE).client("desk").lasting(Lifetime::minutes(5));
    Ok(Issuer::new(ISSUER, Keyring::clone(&keys.current())).access(&draft, &vorsel::random_id()?, at)?)
}

fn main() -> Result<(), Box<dyn std::error::Error>> {
    let start = now();
    let first = SigningKey::generate(Algorithm::EdDsa)?;
    let old = first.key_id().to_owned();
    let keys = LiveKeyring::from(Keyring::new(first, KeyTimes::default(), start));
    let checker = Checker::<NoOwn>::new(keys.clone(), Expectations::access(ISSUER, AUDIENCE));

    let next = SigningKey::generate(Algorithm::EdDsa)?;
    let signs_from = keys.change(|ring| ring.roll(next, start))?;
    println!("rolled at {start}; the new key signs from {signs_from} on");

    let last_of_old = token(&keys, signs_from.before(Duration::from_secs(1)))?;
    let first_of_new = token(&keys, signs_from)?;
    let later = signs_from.after(Duration::from_secs(60));
    checker.check(&last_of_old, later)?;
    checker.check(&first_of_new, later)?;
    println!("a minute later the old key's last token is as good as the new key's first");

    let refused = keys.change(|ring| ring.destroy(&old, later)).expect_err("its tokens have not expired");
    println!("too early: {refused}");

    let leaked = keys.current().signing_key(later).map(|key| key.key_id().to_owned()).ok_or("a key signs")?;
    let replacement = SigningKey::generate(Algorithm::EdDsa)?;
    keys.change(|ring| ring.compromise(&leaked, later).and_then(|()| ring.roll(replacement, later)))?;
    let finding = checker.check(&first_of_new, later).expect_err("its key has leaked");
    println!("leaked:    {finding}");
    checker.check(token(&keys, later)?, later)?;
    println!("and the replacement signs at once");
    Ok(())
}
