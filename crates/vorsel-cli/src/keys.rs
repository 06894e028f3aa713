//! `vorsel keys make`: a strong key in one command.

use std::path::PathBuf;
use std::process::ExitCode;

use clap::{Args, Subcommand};
use vorsel::{Algorithm, SigningKey};

use crate::failure::Failure;
use crate::key_file;

/// Make keys.
#[derive(Debug, Args)]
pub(crate) struct KeysArguments {
    #[command(subcommand)]
    action: KeysAction,
}

#[derive(Debug, Subcommand)]
enum KeysAction {
    /// Make a signing key. The private key goes into a file that only you can read and is never printed; what is
    /// printed is the public JWK, or the key ID of a shared secret.
    Make {
        /// What the key signs with: HS256, RS256, PS256, ES256, EdDSA and their larger kin.
        #[arg(long, value_name = "NAME", default_value = "EdDSA", value_parser = algorithm)]
        algorithm: Algorithm,
        /// The file to make.
        #[arg(long, value_name = "FILE")]
        out: PathBuf,
    },
}

fn algorithm(name: &str) -> Result<Algorithm, String> {
    let known = || Algorithm::ALL.map(Algorithm::name).join(", ");
    Algorithm::from_name(name).ok_or_else(|| format!("expected one of {}", known()))
}

pub(crate) fn run(arguments: &KeysArguments) -> Result<ExitCode, Failure> {
    let KeysAction::Make { algorithm, out } = &arguments.action;
    let key = SigningKey::generate(*algorithm)?;
    key_file::write_private(out, &key.to_private_jwk()?)?;
    match key.verifying_key().to_public_jwk() {
        Some(public) => anstream::println!("{}", serde_json::to_string(&public)?),
        None => anstream::println!("{}", serde_json::json!({ "alg": algorithm.name(), "kid": key.key_id() })),
    }
    Ok(ExitCode::SUCCESS)
}
