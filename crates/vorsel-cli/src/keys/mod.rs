//! `vorsel keys`: make keys, and see and change the keyrings of a key folder or a store.

mod list;
mod make;
mod place;
mod show;
mod step;

use std::path::{Path, PathBuf};
use std::process::ExitCode;

use clap::{Args, Subcommand, ValueEnum};
use vorsel::{Algorithm, IssuerKeys};

use crate::failure::Failure;
use place::Place;
pub(crate) use place::read_secret;

/// Make keys, see which there are, roll them, and withdraw them.
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
    /// Make a secret to seal keys in a store with, in a file that only you can read.
    Secret {
        /// The file to make.
        #[arg(long, value_name = "FILE")]
        out: PathBuf,
    },
    /// Make an API key and its hash. The key is shown this once; the hash is what the app keeps.
    ApiKey {
        /// Print JSON.
        #[arg(long)]
        json: bool,
    },
    /// Make a client's secret and its hash. The secret is shown this once; the hash goes into the file of clients.
    ClientSecret {
        /// Print JSON.
        #[arg(long)]
        json: bool,
    },
    /// Show the keys of somebody's public set: a JWK Set, a JWK or PEM in a file, or at an address.
    Show {
        /// The file, or an address that begins with https:// (or http:// on this machine).
        #[arg(value_name = "FILE|URL")]
        place: String,
        /// Print JSON.
        #[arg(long)]
        json: bool,
    },
    /// Show the keys, their states and their dates.
    List {
        #[command(flatten)]
        place: Place,
        /// Print JSON.
        #[arg(long)]
        json: bool,
    },
    /// Make a new key that takes over as soon as every verifier knows it. No token is refused on the way.
    Roll {
        #[command(flatten)]
        place: Place,
        /// Whose keys to roll.
        #[arg(long = "for", value_name = "KIND", default_value = "access")]
        ring: Ring,
        /// What the new key signs with; as the one before if it is left out.
        #[arg(long, value_name = "NAME", value_parser = algorithm)]
        algorithm: Option<Algorithm>,
    },
    /// Have a published key sign from now on, if every verifier can know it by now.
    Activate(OneKey),
    /// Refuse everything a leaked key has signed, at once. If it was the one that signs, a new key takes its place.
    Compromise(OneKey),
    /// Forget a key for good, once everything that it signed has expired.
    Destroy(OneKey),
}

#[derive(Debug, Args)]
struct OneKey {
    #[command(flatten)]
    place: Place,
    /// The key ID, or as much of its beginning as no other key shares.
    #[arg(value_name = "KEY_ID", allow_hyphen_values = true)]
    key_id: String,
}

/// Which of the two keyrings.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
enum Ring {
    /// The keys that sign access tokens.
    Access,
    /// The secrets that sign refresh tokens.
    Refresh,
}

impl Ring {
    const ALL: [Self; 2] = [Self::Access, Self::Refresh];

    const fn name(self) -> &'static str {
        match self {
            Self::Access => "access",
            Self::Refresh => "refresh",
        }
    }

    fn file(self, folder: &Path) -> PathBuf {
        folder.join(match self {
            Self::Access => IssuerKeys::ACCESS,
            Self::Refresh => IssuerKeys::REFRESH,
        })
    }
}

fn algorithm(name: &str) -> Result<Algorithm, String> {
    let known = || Algorithm::ALL.map(Algorithm::name).join(", ");
    Algorithm::from_name(name).ok_or_else(|| format!("expected one of {}", known()))
}

pub(crate) fn run(arguments: &KeysArguments) -> Result<ExitCode, Failure> {
    tokio::runtime::Runtime::new()?.block_on(carry_out(&arguments.action))
}

async fn carry_out(action: &KeysAction) -> Result<ExitCode, Failure> {
    match action {
        KeysAction::Make { algorithm, out } => make::run(*algorithm, out),
        KeysAction::Secret { out } => place::make_secret(out).map(|()| ExitCode::SUCCESS),
        KeysAction::ApiKey { json } => make::api_key(*json),
        KeysAction::ClientSecret { json } => make::client_secret(*json),
        KeysAction::Show { place, json } => show::run(place, *json).await,
        KeysAction::List { place, json } => list::run(&place.find().await?, *json).await,
        KeysAction::Roll { place, ring, algorithm } => step::roll(&place.find().await?, *ring, *algorithm).await,
        KeysAction::Activate(key) => step::activate(&key.place.find().await?, &key.key_id).await,
        KeysAction::Compromise(key) => step::compromise(&key.place.find().await?, &key.key_id).await,
        KeysAction::Destroy(key) => step::destroy(&key.place.find().await?, &key.key_id).await,
    }
}
