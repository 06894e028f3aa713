//! `vorsel issue`: an access token without a login, for trying things out.

use std::path::PathBuf;
use std::process::ExitCode;
use std::time::Duration;

use clap::Args;
use serde_json::Value;
use vorsel::{AccessDraft, Issuer, Lifetime, Object, Scopes, now, random_id};

use crate::failure::Failure;
use crate::key_file;
use crate::observatory;
use crate::settings::variables;

/// Issue an access token for any subject, roles, scopes and lifetime, and print it.
#[derive(Debug, Args)]
pub(crate) struct IssueArguments {
    /// The key to sign with: a private JWK, PEM, the file of a keyring, or the key folder of `vorsel serve`.
    #[arg(long, value_name = "FILE", env = "VORSEL_KEYS_FOLDER")]
    keys: PathBuf,
    /// Who the token is about.
    #[arg(long, value_name = "SUBJECT")]
    subject: String,
    /// A role; give the option again for more.
    #[arg(long = "role", value_name = "ROLE")]
    roles: Vec<String>,
    /// Scopes, with a space between them.
    #[arg(long, value_name = "SCOPES", default_value = "")]
    scope: String,
    /// A claim of the app's own, the value as JSON or plain text; give the option again for more.
    #[arg(long = "claim", value_name = "NAME=VALUE", value_parser = claim)]
    claims: Vec<(String, Value)>,
    /// How long the token lasts, 300 or 5m for instance.
    #[arg(long, value_name = "DURATION", default_value = "5m", value_parser = vorsel::read_duration)]
    lifetime: Duration,
    /// The issuer; that of the demo if it is left out.
    #[arg(long, value_name = "URL", env = "VORSEL_ISSUER")]
    issuer: Option<String>,
    /// The audience; that of the demo if it is left out.
    #[arg(long, value_name = "VALUE", env = "VORSEL_AUDIENCE")]
    audience: Option<String>,
    /// The client; that of the demo if it is left out.
    #[arg(long, value_name = "NAME")]
    client: Option<String>,
}

/// A claim given as an option: a name and a value, as JSON or else as text.
pub(crate) fn claim(text: &str) -> Result<(String, Value), String> {
    let (name, value) = text.split_once('=').ok_or("expected a name, \"=\" and a value")?;
    let value = serde_json::from_str(value).unwrap_or_else(|_| Value::String(value.to_owned()));
    Ok((name.to_owned(), value))
}

pub(crate) fn run(arguments: &IssueArguments) -> Result<ExitCode, Failure> {
    let demo = observatory::settings(variables())?;
    let issuer = arguments.issuer.clone().unwrap_or(demo.issuer);
    let audience = arguments.audience.clone().unwrap_or(demo.audience);
    let client = arguments.client.as_deref().unwrap_or(observatory::CLIENT);
    let lifetime = Lifetime::try_from(arguments.lifetime)?;
    let own: Object = arguments.claims.iter().cloned().collect();
    let draft = AccessDraft::of(&arguments.subject)
        .audience(audience)
        .client(client)
        .lasting(lifetime)
        .roles(arguments.roles.iter().cloned())
        .scopes(Scopes::parse(&arguments.scope)?)
        .own(own);
    let token = Issuer::new(issuer, key_file::signing_keys(&arguments.keys)?).access(&draft, &random_id()?, now())?;
    anstream::println!("{token}");
    Ok(ExitCode::SUCCESS)
}
