//! `vorsel keys make`: a strong key in one command.

use std::path::Path;
use std::process::ExitCode;

use serde_json::json;
use vorsel::{Algorithm, ApiKey, ClientSecret, SigningKey};

use crate::failure::Failure;
use crate::key_file;
use crate::paint::faint;

pub(super) fn run(algorithm: Algorithm, out: &Path) -> Result<ExitCode, Failure> {
    let key = SigningKey::generate(algorithm)?;
    key_file::write_private(out, &key.to_private_jwk()?)?;
    match key.verifying_key().to_public_jwk() {
        Some(public) => anstream::println!("{}", serde_json::to_string(&public)?),
        None => anstream::println!("{}", serde_json::json!({ "alg": algorithm.name(), "kid": key.key_id() })),
    }
    Ok(ExitCode::SUCCESS)
}

pub(super) fn api_key(as_json: bool) -> Result<ExitCode, Failure> {
    let key = ApiKey::generate()?;
    show_once("key", key.reveal(), &key.hash().to_string(), as_json)
}

pub(super) fn client_secret(as_json: bool) -> Result<ExitCode, Failure> {
    let secret = ClientSecret::generate()?;
    show_once("secret", secret.reveal(), &secret.hash().to_string(), as_json)
}

fn show_once(name: &str, secret: &str, hash: &str, as_json: bool) -> Result<ExitCode, Failure> {
    if as_json {
        anstream::println!("{}", json!({ name: secret, "hash": hash }));
    } else {
        let width = name.len().max("hash".len());
        anstream::println!("{name:width$}  {secret}  {}", faint("for its owner, shown this once"));
        anstream::println!("{:width$}  {hash}", "hash");
    }
    Ok(ExitCode::SUCCESS)
}
