//! `vorsel keys list`: which keys there are, in which states, until when.

use std::process::ExitCode;

use serde_json::{Value, json};
use vorsel::{KeyRecord, KeyState, Keyring, Timestamp, now, spoken};

use super::Ring;
use super::place::Found;
use crate::failure::Failure;
use crate::paint::{bad, faint, good, heading, printable};

pub(super) async fn run(place: &Found, as_json: bool) -> Result<ExitCode, Failure> {
    let now = now();
    let mut all = serde_json::Map::new();
    for (index, ring) in Ring::ALL.into_iter().enumerate() {
        let keyring = place.keyring(ring).await?;
        if as_json {
            all.insert(ring.name().to_owned(), record(&keyring, now));
        } else {
            anstream::print!("{}{}", if index == 0 { "" } else { "\n" }, shown(ring, &keyring, now));
        }
    }
    if as_json {
        anstream::println!("{}", serde_json::to_string_pretty(&all)?);
    }
    Ok(ExitCode::SUCCESS)
}

fn shown(ring: Ring, keyring: &Keyring, now: Timestamp) -> String {
    let times = keyring.times();
    let allows = format!(
        "for tokens that last up to {}, with key sets kept for {}",
        spoken(times.longest_lifetime.as_duration()),
        spoken(times.cache_time)
    );
    let mut text = format!("{}  {}\n", heading(format!("Keys for {} tokens", ring.name())), faint(allows));
    for key in keyring.keys() {
        let state = keyring.state(key.key_id(), now).unwrap_or(KeyState::Destroyed);
        let label = format!("{:<12}", state.to_string());
        let label = match state {
            KeyState::Active => good(label),
            KeyState::Compromised => bad(label),
            _ => label,
        };
        text.push_str(&format!("  {label} {:<44} {}\n", printable(key.key_id()), key.algorithm()));
        for line in dates(keyring, key, state, now) {
            text.push_str(&format!("               {}\n", faint(line)));
        }
    }
    text
}

/// What has been and what comes next, in words.
fn dates(keyring: &Keyring, key: &KeyRecord, state: KeyState, now: Timestamp) -> Vec<String> {
    let at = |date: Timestamp| {
        let span = spoken(date.distance(now));
        if date > now { format!("{date} (in {span})") } else { format!("{date} ({span} ago)") }
    };
    let mut lines = vec![format!("published     {}", at(key.published_at()))];
    let until = keyring.deactivated_at(key.key_id());
    match (key.active_from(), until) {
        (Some(from), _) if from > now => lines.push(format!("signs from    {}", at(from))),
        (Some(_), Some(until)) if until > now => lines.push(format!("signs until   {}", at(until))),
        (Some(_), Some(until)) => lines.push(format!("signed until  {}", at(until))),
        (None, _) => lines.push("signs         when it is activated".to_owned()),
        (Some(_), None) => {}
    }
    match state {
        KeyState::Compromised => lines.extend(key.compromised_at().map(|date| format!("refused since {}", at(date)))),
        KeyState::Destroyed => lines.extend(key.destroyed_at().map(|date| format!("destroyed     {}", at(date)))),
        KeyState::Deactivated => lines.extend(destroyable(keyring, key, now).map(|date| match date <= now {
            true => "destroyable   now: all that it signed has expired".to_owned(),
            false => format!("destroyable   from {} on", at(date)),
        })),
        _ => {}
    }
    lines
}

fn destroyable(keyring: &Keyring, key: &KeyRecord, now: Timestamp) -> Option<Timestamp> {
    keyring.earliest_destruction(key.key_id(), now).ok().flatten()
}

fn record(keyring: &Keyring, now: Timestamp) -> Value {
    let times = keyring.times();
    let keys = keyring.keys().iter().map(|key| {
        let seconds = |date: Option<Timestamp>| date.map(Timestamp::as_secs);
        json!({
            "kid": key.key_id(),
            "alg": key.algorithm().name(),
            "state": keyring.state(key.key_id(), now).map(|state| state.to_string()),
            "published_at": key.published_at().as_secs(),
            "active_from": seconds(key.active_from()),
            "deactivated_at": seconds(keyring.deactivated_at(key.key_id())),
            "compromised_at": seconds(key.compromised_at()),
            "destroyed_at": seconds(key.destroyed_at()),
            "destroyable_from": seconds(destroyable(keyring, key, now)),
        })
    });
    json!({
        "longest_lifetime": times.longest_lifetime.as_secs(),
        "cache_time": times.cache_time.as_secs(),
        "spread": times.spread.as_secs(),
        "keys": keys.collect::<Vec<_>>(),
    })
}
