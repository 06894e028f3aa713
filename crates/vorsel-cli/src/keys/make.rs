//! `vorsel keys make`: a strong key in one command.

use std::path::Path;
use std::process::ExitCode;

use vorsel::{Algorithm, SigningKey};

use crate::failure::Failure;
use crate::key_file;

pub(super) fn run(algorithm: Algorithm, out: &Path) -> Result<ExitCode, Failure> {
    let key = SigningKey::generate(algorithm)?;
    key_file::write_private(out, &key.to_private_jwk()?)?;
    match key.verifying_key().to_public_jwk() {
        Some(public) => anstream::println!("{}", serde_json::to_string(&public)?),
        None => anstream::println!("{}", serde_json::json!({ "alg": algorithm.name(), "kid": key.key_id() })),
    }
    Ok(ExitCode::SUCCESS)
}
