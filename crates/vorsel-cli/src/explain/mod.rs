//! `vorsel explain`: what a token says, and each check with what it expected and found.

mod batch;
mod desk;
mod lines;
mod record;
mod text;

use std::env;
use std::io::{self, IsTerminal, Read};
use std::path::PathBuf;
use std::process::ExitCode;
use std::time::Duration;

use clap::{Args, ValueEnum};
use vorsel::{Expectations, KeySet, Kind, Object, RemoteIssuer, Timestamp, Verifier, now, with_causes};

use desk::Desk;

use crate::failure::Failure;
use crate::{key_file, paint};

/// Explain a token: its header and claims, and each check with what it expected and found.
///
/// The token never leaves the machine. With --issuer and without --keys the issuer's key set is fetched. Exit status: 0 if the token is accepted, 1 if it is refused.
#[derive(Debug, Args)]
pub(crate) struct ExplainArguments {
    /// The token; read from standard input if it is left out, which keeps it out of the list of processes.
    #[arg(conflicts_with = "batch")]
    token: Option<String>,
    /// Read many tokens from standard input, one a line, and write one line for each.
    #[arg(long)]
    batch: bool,
    /// Write JSON.
    #[arg(long)]
    json: bool,
    /// The kind of token expected.
    #[arg(long, value_enum, default_value_t = KindName::Access)]
    kind: KindName,
    /// The keys to check with: a JWK Set, a JWK, PEM, the file of a keyring, or the key folder of `vorsel serve`. Without keys no token is
    /// accepted.
    #[arg(long, value_name = "FILE", env = "VORSEL_KEYS_FOLDER")]
    keys: Option<PathBuf>,
    /// The issuer expected, or VORSEL_ISSUER; any if there is neither. Named here, its key set is fetched unless --keys names keys.
    #[arg(long, value_name = "URL")]
    issuer: Option<String>,
    /// The audience expected; any if it is left out.
    #[arg(long, value_name = "VALUE", env = "VORSEL_AUDIENCE")]
    audience: Option<String>,
    /// The clock skew allowed, 5 or 5s for instance, at most 5m. None is allowed if it is left out: the desk shows the bare times.
    #[arg(long, value_name = "SECONDS", default_value = "0", value_parser = skew)]
    skew: Duration,
    /// The moment to check for, in seconds since 1970; now if it is left out.
    #[arg(long, value_name = "UNIX_SECONDS", allow_negative_numbers = true)]
    at: Option<f64>,
}

/// Seconds, of which fractions count, or a duration with its unit.
fn skew(text: &str) -> Result<Duration, String> {
    let seconds = text.parse().ok().and_then(|seconds| Duration::try_from_secs_f64(seconds).ok());
    seconds.map_or_else(|| vorsel::read_duration(text).map_err(|error| error.to_string()), Ok)
}

#[derive(Clone, Copy, Debug, ValueEnum)]
enum KindName {
    /// An access token (RFC 9068), typ at+jwt.
    Access,
    /// A refresh token of Vorsel's.
    Refresh,
    /// A one-purpose token of Vorsel's, typ once+jwt.
    OnePurpose,
    /// What an issuer tells those who follow it (RFC 8417), typ secevent+jwt.
    SecurityEvent,
    /// Any JWT with an expiration time, typ absent or JWT.
    Plain,
}

/// What `--json` writes of one token.
pub(crate) fn record(token: &[u8], verifier: &Verifier, now: Timestamp) -> serde_json::Value {
    record::whole(token, &verifier.examine::<Object>(token, now), &[])
}

pub(crate) fn run(arguments: &ExplainArguments) -> Result<ExitCode, Failure> {
    let desk = desk(arguments)?;
    let accepted = if arguments.batch {
        batch::run(&desk, arguments.json, io::stdin().lock(), io::stdout().lock())?
    } else {
        one(&desk, arguments)?
    };
    Ok(if accepted { ExitCode::SUCCESS } else { ExitCode::from(1) })
}

fn one(desk: &Desk, arguments: &ExplainArguments) -> Result<bool, Failure> {
    let token = match &arguments.token {
        Some(token) => token.clone().into_bytes(),
        None => token_from_stdin()?,
    };
    let findings = desk.verifier.examine::<Object>(&token, desk.now);
    let asked = [("issuer", desk.has_issuer), ("audience", arguments.audience.is_some())];
    // Whether the app's own claims fit, only the app can tell.
    let not_checked: Vec<_> = asked.into_iter().filter(|(_, asked)| !asked).map(|(name, _)| name).collect();
    if arguments.json {
        anstream::println!("{}", serde_json::to_string_pretty(&record::whole(&token, &findings, &not_checked))?);
    } else {
        anstream::print!("{}", text::explained(&token, &findings, &not_checked, desk.now));
    }
    Ok(findings.accepted().is_some())
}

fn desk(arguments: &ExplainArguments) -> Result<Desk, Failure> {
    let keys = match &arguments.keys {
        None => arguments.issuer.as_deref().map(fetched).unwrap_or_default(),
        Some(path) => key_file::key_set(path)?,
    };
    for skipped in keys.skipped() {
        let reason = paint::printable(&skipped.reason);
        anstream::eprintln!("{}: key {} of the set is left out: {reason}", paint::bad("warning"), skipped.index);
    }
    let kind = match arguments.kind {
        KindName::Access => Kind::Access,
        KindName::Refresh => Kind::Refresh,
        KindName::OnePurpose => Kind::OnePurpose,
        KindName::SecurityEvent => Kind::SecurityEvent,
        KindName::Plain => Kind::Plain,
    };
    let mut expectations = Expectations::danger_from_anyone_for_anyone(kind);
    // The variable alone has nothing fetched: whoever sets it for a server does not mean this.
    let issuer =
        arguments.issuer.clone().or_else(|| env::var("VORSEL_ISSUER").ok()).filter(|issuer| !issuer.is_empty());
    let has_issuer = issuer.is_some();
    if let Some(issuer) = issuer {
        expectations = expectations.issuer(issuer);
    }
    if let Some(audience) = &arguments.audience {
        expectations = expectations.audience(audience);
    }
    let now = match arguments.at {
        None => now(),
        Some(at) if at.is_finite() => Timestamp::from_secs_f64(at),
        Some(at) => return Err(Failure::new(format!("expected --at in seconds since 1970, but found {at}"))),
    };
    Ok(Desk { verifier: Verifier::new(keys, expectations.skew(arguments.skew)?), now, has_issuer })
}

/// What an issuer publishes. Without it there is still something to explain.
fn fetched(issuer: &str) -> KeySet {
    let fetched = tokio::runtime::Builder::new_current_thread().enable_all().build();
    let fetched = fetched
        .map_err(|error| error.to_string())
        .and_then(|runtime| runtime.block_on(RemoteIssuer::keys_of(issuer)).map_err(|error| with_causes(&error)));
    fetched.unwrap_or_else(|error| {
        anstream::eprintln!(
            "{}: the keys of the issuer can't be had: {}",
            paint::bad("warning"),
            paint::printable(&error)
        );
        KeySet::default()
    })
}

/// The token on standard input, without the newline that `echo` and files end with.
fn token_from_stdin() -> Result<Vec<u8>, Failure> {
    if io::stdin().is_terminal() {
        anstream::eprintln!("Paste the token, then press Enter and Ctrl-D:");
    }
    let mut token = Vec::new();
    io::stdin().lock().take(lines::LONGEST as u64 + 1).read_to_end(&mut token)?;
    if token.last() == Some(&b'\n') {
        token.pop();
    }
    Ok(token)
}
