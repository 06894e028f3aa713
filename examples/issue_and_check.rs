//! Issues an access token, checks it, and shows what each mistake is called.
//!
//! `cargo run -p vorsel-examples --example issue_and_check`

use std::time::Duration;

use serde::{Deserialize, Serialize};
use vorsel::{
    AccessDraft, Algorithm, Expectations, Issuer, KeySet, Lifetime, Scopes, SigningKey, Verifier, now, random_id,
};

const ISSUER: &str = "https://id.skarnhill.test";
const API: &str = "https://api.skarnhill.test";

#[derive(Debug, Serialize, Deserialize)]
struct Staff {
    training: u8,
    shift: String,
}

fn main() -> Result<(), Box<dyn std::error::Error>> {
    let key = SigningKey::generate(Algorithm::Es256)?;
    let keys = KeySet::new([key.verifying_key()]);
    let issuer = Issuer::new(ISSUER, key);

    // There is no draft without a lifetime.
    let draft = AccessDraft::of("obs-0017")
        .audience(API)
        .client("desk")
        .lasting(Lifetime::minutes(5))
        .roles(["observer"])
        .scopes(Scopes::parse("exposures:read exposures:queue")?)
        .own(Staff { training: 2, shift: "night".to_owned() });
    let token = issuer.access(&draft, &random_id()?, now())?;

    let verifier = Verifier::new(keys.clone(), Expectations::access(ISSUER, API));
    let checked = verifier.check_as::<Staff>(&token, now())?;
    println!("accepted: {:?} with {:?}", checked.claims().subject(), checked.own());

    let an_hour_later = now().after(Duration::from_secs(3_600));
    let elsewhere = Verifier::new(keys, Expectations::access(ISSUER, "https://lab.skarnhill.test"));
    for finding in [
        verifier.check_as::<Staff>(&token, an_hour_later).expect_err("it has expired"),
        elsewhere.check_as::<Staff>(&token, now()).expect_err("it is for another audience"),
        verifier.check_as::<Staff>(format!("Bearer {token}"), now()).expect_err("the scheme is no part of it"),
        verifier.check_as::<Numbers>(&token, now()).expect_err("the shift is no number"),
    ] {
        println!("refused:  {finding}");
    }
    Ok(())
}

#[derive(Debug, Deserialize)]
struct Numbers {
    #[serde(rename = "shift")]
    _shift: u8,
}
