//! `vorsel keys roll`, `activate`, `compromise` and `destroy`: one step on a keyring, which every instance that shares the folder
//! or the store takes up within a second.

use std::process::ExitCode;

use vorsel::{Algorithm, KeyStepError, Keyring, LiveKeyring, SigningKey, StepError, Timestamp, now, spoken};

use super::Ring;
use super::place::Found;
use crate::failure::Failure;
use crate::paint::{bad, printable};

pub(super) async fn roll(place: &Found, ring: Ring, algorithm: Option<Algorithm>) -> Result<ExitCode, Failure> {
    let live = place.open(ring).await?;
    let key = SigningKey::generate(algorithm.unwrap_or_else(|| usual(&live.current())))?;
    let kid = key.key_id().to_owned();
    done(live.step(|keyring| keyring.roll(key, now())).await, |from| format!("{kid} {}", signs(from)))
}

pub(super) async fn activate(place: &Found, key_id: &str) -> Result<ExitCode, Failure> {
    let (live, kid) = find(place, key_id).await?;
    done(live.step(|keyring| keyring.activate(&kid, now(), now())).await, |()| format!("{kid} signs from now on"))
}

pub(super) async fn compromise(place: &Found, key_id: &str) -> Result<ExitCode, Failure> {
    let (live, kid) = find(place, key_id).await?;
    let next = SigningKey::generate(usual(&live.current()))?;
    let next_kid = next.key_id().to_owned();
    let outcome = live.step(|keyring| {
        let now = now();
        keyring.compromise(&kid, now)?;
        let nothing_signs = keyring.signing_key(now).is_none();
        if nothing_signs { keyring.roll(next, now).map(Some) } else { Ok(None) }
    });
    done(outcome.await, |from| {
        let next = from.map(|from| format!("\n{next_kid} {}", signs(from))).unwrap_or_default();
        format!("{kid} is refused from now on, with all that it signed{next}")
    })
}

pub(super) async fn destroy(place: &Found, key_id: &str) -> Result<ExitCode, Failure> {
    let (live, kid) = find(place, key_id).await?;
    done(live.step(|keyring| keyring.destroy(&kid, now())).await, |()| format!("{kid} is destroyed"))
}

/// A step that is refused is an answer, not a failure of the call.
fn done<T>(outcome: Result<T, KeyStepError>, said: impl FnOnce(T) -> String) -> Result<ExitCode, Failure> {
    match outcome {
        Ok(value) => {
            anstream::println!("{}", printable(&said(value)));
            Ok(ExitCode::SUCCESS)
        }
        Err(KeyStepError::Step(refused)) => {
            anstream::eprintln!("{}: {}", bad("refused"), printable(&in_words(&refused)));
            Ok(ExitCode::from(1))
        }
        Err(error) => Err(error.into()),
    }
}

fn in_words(refused: &StepError) -> String {
    match refused {
        StepError::SignsTooEarly { earliest, .. } | StepError::DestroyedTooEarly { earliest, .. } => {
            format!("{refused}; that is in {}", spoken(earliest.distance(now())))
        }
        other => other.to_string(),
    }
}

fn signs(from: Timestamp) -> String {
    let now = now();
    if from <= now {
        "signs from now on".to_owned()
    } else {
        format!("is published and signs from {from} on, in {}", spoken(from.distance(now)))
    }
}

fn usual(keyring: &Keyring) -> Algorithm {
    keyring.keys().last().map_or(Algorithm::EdDsa, |key| key.algorithm())
}

/// The one key whose ID is or begins with `key_id`, in either keyring.
async fn find(place: &Found, key_id: &str) -> Result<(LiveKeyring, String), Failure> {
    let mut found = Vec::new();
    for ring in Ring::ALL {
        let keyring = place.keyring(ring).await?;
        let ids = keyring.keys().iter().map(|key| key.key_id());
        found.extend(ids.filter(|id| id.starts_with(key_id)).map(|id| (ring, id.to_owned())));
    }
    let exact = found.iter().find(|(_, id)| id == key_id).cloned();
    match (exact, found.as_slice()) {
        (Some((ring, id)), _) => Ok((place.open(ring).await?, id)),
        (None, [(ring, id)]) => Ok((place.open(*ring).await?, id.clone())),
        (None, []) => Err(Failure::new(format!("expected the ID of a key in {place}, but found {key_id:?}"))),
        (None, several) => {
            Err(Failure::new(format!("expected the ID of one key, but {key_id:?} begins {} of them", several.len())))
        }
    }
}
