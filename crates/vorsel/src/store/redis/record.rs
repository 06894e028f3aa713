//! How a session stands in Redis: what does not change in a hash, its generations and its end in a stream.

use std::collections::HashMap;

use ::redis::streams::{StreamId, StreamRangeReply};
use ::redis::{ErrorKind, RedisError};
use vorsel_core::{Ended, Revocation, Secret, Session, Spent, Timestamp};

use crate::store::record::{read_ended, read_entry};

pub(super) type Fields = HashMap<String, Vec<u8>>;

/// Above all generations: behind this entry there is none any more.
const END: &str = "18446744073709551615-0";

/// The ID of a generation's entry. A stream has no 0-0.
pub(super) fn generation_id(generation: u64) -> String {
    format!("{generation}-1")
}

/// The fields of a session's hash.
pub(super) fn fields(session: &Session) -> Vec<(&'static str, Vec<u8>)> {
    let text = |text: &str| text.as_bytes().to_vec();
    let time = |time: Timestamp| time.as_micros().to_string().into_bytes();
    let mut fields = vec![
        ("subject", text(&session.subject)),
        ("client_id", text(&session.client_id)),
        ("started_at", time(session.started_at)),
        ("ends_at", time(session.ends_at)),
        ("secret", session.secret.reveal().to_vec()),
    ];
    fields.extend(session.device.as_deref().map(|device| ("device", text(device))));
    fields.extend(session.acr.as_deref().map(|acr| ("acr", text(acr))));
    fields
}

/// The entries of a session's line, the first one first, each with two values.
pub(super) fn entries(session: &Session) -> Vec<(String, [(&'static str, String); 2])> {
    let times = |times: Spent| {
        let text = |time: Timestamp| time.as_micros().to_string();
        [("renewed_at", text(times.began_at)), ("idle_until", text(times.idle_until))]
    };
    let current = Spent { began_at: session.renewed_at, idle_until: session.idle_until };
    let known = [current].into_iter().chain(session.spent.iter().copied());
    let numbers = (0..=session.generation).rev();
    let mut entries: Vec<_> = numbers.zip(known).map(|(number, spent)| (generation_id(number), times(spent))).collect();
    entries.reverse();
    let end = |ended: Ended| {
        let at = ended.at.as_micros().to_string();
        (END.to_owned(), [("ended_at", at), ("ended_why", ended.why.code().to_owned())])
    };
    entries.extend(session.ended.map(end));
    entries
}

/// The session, if there is one; `line` has the last entry first.
pub(super) fn read(id: String, mut fields: Fields, line: StreamRangeReply) -> Result<Option<Session>, RedisError> {
    let end = line.ids.first().filter(|entry| entry.id == END);
    let mut generations = line.ids.iter().skip(usize::from(end.is_some()));
    let Some(current) = generations.next().filter(|_| !fields.is_empty()) else { return Ok(None) };
    let generation = number_of(current)?;
    let Spent { began_at: renewed_at, idle_until } = times_of(current)?;
    let mut spent = Vec::new();
    for (number, entry) in (0..generation).rev().zip(generations).take(Session::MOST_SPENT) {
        // After a fail-over some may be missing, and those before them are of no use.
        if number_of(entry)? != number {
            break;
        }
        spent.push(times_of(entry)?);
    }
    let ended = end.map(|end| Ok::<_, RedisError>((number(end, "ended_at")?, text(end, "ended_why")?))).transpose()?;
    let mut field = |name: &'static str| fields.remove(name).ok_or_else(|| unreadable(name));
    Ok(Some(Session {
        id,
        subject: string(field("subject")?, "subject")?,
        client_id: string(field("client_id")?, "client_id")?,
        started_at: time(field("started_at")?, "started_at")?,
        ends_at: time(field("ends_at")?, "ends_at")?,
        secret: Secret::new(field("secret")?),
        device: field("device").ok().map(|device| string(device, "device")).transpose()?,
        acr: field("acr").ok().map(|acr| string(acr, "acr")).transpose()?,
        generation,
        renewed_at,
        idle_until,
        spent,
        ended: ended.and_then(|(at, why)| read_ended(Some(at), Some(&why))),
    }))
}

fn unreadable(what: &'static str) -> RedisError {
    RedisError::from((
        ErrorKind::UnexpectedReturnType,
        "an entry or a session without a readable field",
        what.to_owned(),
    ))
}

fn string(bytes: Vec<u8>, name: &'static str) -> Result<String, RedisError> {
    String::from_utf8(bytes).map_err(|_| unreadable(name))
}

fn time(bytes: Vec<u8>, name: &'static str) -> Result<Timestamp, RedisError> {
    string(bytes, name)?.parse().map(Timestamp::from_micros).map_err(|_| unreadable(name))
}

fn text(entry: &StreamId, name: &'static str) -> Result<String, RedisError> {
    entry.get(name).ok_or_else(|| unreadable(name))
}

fn number(entry: &StreamId, name: &'static str) -> Result<i64, RedisError> {
    text(entry, name)?.parse().map_err(|_| unreadable(name))
}

fn number_of(entry: &StreamId) -> Result<u64, RedisError> {
    let number = entry.id.split_once('-').and_then(|(number, _)| number.parse().ok());
    number.ok_or_else(|| unreadable("a generation"))
}

fn times_of(entry: &StreamId) -> Result<Spent, RedisError> {
    let time = |name| number(entry, name).map(Timestamp::from_micros);
    Ok(Spent { began_at: time("renewed_at")?, idle_until: time("idle_until")? })
}

pub(super) fn read_feed(entry: &StreamId) -> Result<Revocation, RedisError> {
    let (kind, name) = (text(entry, "kind")?, text(entry, "name")?);
    Ok(read_entry(&kind, name, number(entry, "up_to")?, number(entry, "until")?))
}
