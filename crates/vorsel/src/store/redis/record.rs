//! How a session stands in Redis: what does not change in a hash, its generations and its end in a stream.

use std::collections::HashMap;

use ::redis::streams::{StreamId, StreamRangeReply};
use ::redis::{ErrorKind, RedisError};
use vorsel_core::{Ended, Facts, Generation, Revocation, Session, Spent, Timestamp};

use crate::store::record::{read_ended, read_entry};

pub(super) type Fields = HashMap<String, Vec<u8>>;

/// Above all generations: behind this entry there is none any more.
const END: &str = "18446744073709551615-0";

/// The ID of a generation's entry. A stream has no 0-0.
pub(super) fn generation_id(generation: u64) -> String {
    format!("{generation}-1")
}

/// The entries of a session's line, the first one first, each with two values.
pub(super) fn entries(session: &Session) -> Vec<(String, [(&'static str, String); 2])> {
    let times = |times: Spent| {
        let text = |time: Timestamp| time.as_micros().to_string();
        [("began_at", text(times.began_at)), ("idle_until", text(times.idle_until))]
    };
    let Generation { number, began_at, idle_until } = session.current;
    let current = Spent { began_at, idle_until };
    let known = [current].into_iter().chain(session.spent.iter().copied());
    let numbers = (0..=number).rev();
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
    let number = number_of(current)?;
    let Spent { began_at, idle_until } = times_of(current)?;
    let mut spent = Vec::new();
    for (expected, entry) in (0..number).rev().zip(generations).take(Session::MOST_SPENT) {
        // After a fail-over some may be missing, and those before them are of no use.
        if number_of(entry)? != expected {
            break;
        }
        spent.push(times_of(entry)?);
    }
    let ended =
        end.map(|end| Ok::<_, RedisError>((self::number(end, "ended_at")?, text(end, "ended_why")?))).transpose()?;
    let facts = fields.remove("facts").ok_or_else(|| unreadable("facts"))?;
    let facts = Facts::from_bytes(&facts).map_err(|_| unreadable("facts"))?;
    Ok(Some(Session {
        id,
        facts: facts.into(),
        current: Generation { number, began_at, idle_until },
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
    Ok(Spent { began_at: time("began_at")?, idle_until: time("idle_until")? })
}

pub(super) fn read_feed(entry: &StreamId) -> Result<Revocation, RedisError> {
    let (kind, name) = (text(entry, "kind")?, text(entry, "name")?);
    Ok(read_entry(&kind, name, number(entry, "up_to")?, number(entry, "until")?))
}
