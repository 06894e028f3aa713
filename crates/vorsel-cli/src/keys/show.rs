//! `vorsel keys show`: the keys of somebody's public set.

use std::fs;
use std::process::ExitCode;
use std::time::Duration;

use serde_json::{Value, json};
use vorsel::{KeySet, VerifyingKey};

use crate::failure::Failure;
use crate::paint::{bad, faint, heading, printable};

/// A set has some kilobytes.
const LARGEST: usize = 1024 * 1024;
const WITHIN: Duration = Duration::from_secs(10);

pub(super) async fn run(place: &str, as_json: bool) -> Result<ExitCode, Failure> {
    let text = if place.starts_with("https://") || place.starts_with("http://") {
        fetched(place).await?
    } else {
        let text = fs::read_to_string(place);
        text.map_err(|error| Failure::from(error).while_doing(format!("cannot read {place}")))?
    };
    let keys = KeySet::read(&text).map_err(|error| Failure::from(error).while_doing(place.to_owned()))?;
    if as_json {
        let skipped = keys.skipped().iter().map(|key| json!({ "place": key.index, "reason": key.reason }));
        let (known, skipped): (Vec<Value>, Vec<Value>) = (keys.keys().iter().map(record).collect(), skipped.collect());
        anstream::println!("{}", serde_json::to_string_pretty(&json!({ "keys": known, "left_out": skipped }))?);
        return Ok(ExitCode::SUCCESS);
    }
    anstream::println!("{}", heading(format!("{:<44}  {:<8} thumbprint (RFC 7638)", "key ID", "signs")));
    for key in keys.keys() {
        let (kid, algorithm) = (printable(key.key_id()), key.algorithm().to_string());
        let thumbprint = match key.public_thumbprint() {
            None => "not shown: a shared secret",
            Some(thumbprint) if thumbprint == key.key_id() => "the same",
            Some(thumbprint) => thumbprint,
        };
        anstream::println!("{kid:<44}  {algorithm:<8} {}", faint(thumbprint));
    }
    for skipped in keys.skipped() {
        anstream::println!("{} {}: {}", bad("left out: key"), skipped.index, printable(&skipped.reason));
    }
    Ok(ExitCode::SUCCESS)
}

fn record(key: &VerifyingKey) -> Value {
    json!({ "kid": key.key_id(), "alg": key.algorithm().name(), "thumbprint": key.public_thumbprint() })
}

/// What lies at an address: over TLS unless it is on this machine, without being sent elsewhere, and not endlessly.
async fn fetched(url: &str) -> Result<String, Failure> {
    let failed = |error: reqwest::Error| Failure::from(error.without_url()).while_doing(format!("cannot fetch {url}"));
    let address = reqwest::Url::parse(url)?;
    let is_here = matches!(address.host_str(), Some("localhost" | "127.0.0.1" | "[::1]"));
    if address.scheme() != "https" && !is_here {
        return Err(Failure::new(format!("expected an address that begins with https://, but found {url}")));
    }
    let client = reqwest::Client::builder().timeout(WITHIN).redirect(reqwest::redirect::Policy::none()).build();
    let mut response = client.map_err(failed)?.get(address).send().await.map_err(failed)?;
    if response.status() != 200 {
        return Err(Failure::new(format!("cannot fetch {url}: expected 200, but found {}", response.status())));
    }
    let mut bytes = Vec::new();
    while let Some(chunk) = response.chunk().await.map_err(failed)? {
        bytes.extend_from_slice(&chunk);
        if bytes.len() > LARGEST {
            return Err(Failure::new(format!("cannot fetch {url}: expected at most {LARGEST} bytes, but found more")));
        }
    }
    String::from_utf8(bytes).map_err(|error| Failure::from(error).while_doing(format!("cannot read {url}")))
}
