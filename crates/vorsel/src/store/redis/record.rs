//! How a session stands in Redis: what does not change as its facts, its generations and its end in a hash.

use std::collections::{BTreeMap, HashMap};

use ::redis::{ErrorKind, RedisError, Value};
use vorsel_core::{Ended, Facts, Generation, Revocation, Session, Spent, Timestamp};

use crate::store::end::Mark;
use crate::store::record::{entry_of, read_ended, read_entry};

/// The field of an end, beside the generation whose place it takes.
pub(super) const END: &str = "end";

/// The times of a generation, as its field has them: the first, and how much later the second is, in microseconds and with
/// as few digits as there can be, since there are many of them.
pub(super) fn times(times: Spent) -> String {
    let (began_at, idle_until) = (times.began_at.as_micros(), times.idle_until.as_micros());
    let mut text = String::with_capacity(33);
    push_hex(&mut text, began_at.cast_unsigned());
    text.push(' ');
    push_hex(&mut text, idle_until.wrapping_sub(began_at).cast_unsigned());
    text
}

/// As `{:x}` writes it, in a fifth of the instructions.
fn push_hex(text: &mut String, number: u64) {
    let digits = (u64::BITS - number.leading_zeros()).div_ceil(4).max(1);
    for digit in (0..digits).rev() {
        let value = (number >> (4 * digit)) as usize & 0xf;
        text.push(char::from(b"0123456789abcdef"[value]));
    }
}

fn read_times(text: &str) -> Result<Spent, RedisError> {
    let number = |text| u64::from_str_radix(text, 16).map(u64::cast_signed).map_err(|_| unreadable("a time"));
    let (began_at, later) = pair(text, "a generation's times")?;
    let (began_at, later) = (number(began_at)?, number(later)?);
    let time = Timestamp::from_micros;
    Ok(Spent { began_at: time(began_at), idle_until: time(began_at.wrapping_add(later)) })
}

/// The fields of a session's line.
pub(super) fn fields(session: &Session) -> Vec<(String, String)> {
    let Generation { number, began_at, idle_until } = session.current;
    let known = [Spent { began_at, idle_until }].into_iter().chain(session.spent.iter().copied());
    let mut fields: Vec<_> =
        (0..=number).rev().zip(known).map(|(number, spent)| (number.to_string(), times(spent))).collect();
    if let Some(Ended { at, why }) = session.ended {
        fields.push(((number + 1).to_string(), END.to_owned()));
        fields.push((END.to_owned(), format!("{} {}", at.as_micros(), why.code())));
    }
    fields
}

/// The session, if there is one, as it stands under these marks.
pub(super) fn read(
    id: String,
    facts: Option<Vec<u8>>,
    mut line: HashMap<String, String>,
    marks: &[Mark],
) -> Result<Option<Session>, RedisError> {
    let end = line.remove(END);
    let mut generations = BTreeMap::new();
    for (number, times) in line.iter().filter(|(_, times)| *times != END) {
        let number = number.parse::<u64>().map_err(|_| unreadable("a generation"))?;
        generations.insert(number, read_times(times)?);
    }
    let (Some(facts), Some((number, current))) = (facts, generations.pop_last()) else { return Ok(None) };
    // After a fail-over some may be missing, and those before them are of no use.
    let known = (0..number).rev().map_while(|number| generations.get(&number).copied());
    let ended = match end {
        None => None,
        Some(end) => {
            let (at, why) = pair(&end, "an end")?;
            read_ended(Some(micros(at)?.as_micros()), Some(why))
        }
    };
    let session = Session {
        id,
        facts: Facts::from_bytes(&facts).map_err(|_| unreadable("facts"))?.into(),
        current: Generation { number, began_at: current.began_at, idle_until: current.idle_until },
        spent: known.take(Session::MOST_SPENT).collect(),
        ended,
    };
    Ok(Some(Mark::seen(marks, session)))
}

/// A mark as its member has it: its moment, and when and why.
pub(super) fn read_mark(member: &str) -> Result<Mark, RedisError> {
    let (before, end) = pair(member, "a mark")?;
    let (at, why) = pair(end, "a mark")?;
    let ended = read_ended(Some(micros(at)?.as_micros()), Some(why)).ok_or_else(|| unreadable("a mark"))?;
    Ok(Mark { before: micros(before)?, ended })
}

fn pair<'t>(text: &'t str, what: &'static str) -> Result<(&'t str, &'t str), RedisError> {
    text.split_once(' ').ok_or_else(|| unreadable(what))
}

fn micros(text: &str) -> Result<Timestamp, RedisError> {
    text.parse().map(Timestamp::from_micros).map_err(|_| unreadable("a time"))
}

fn unreadable(what: &'static str) -> RedisError {
    RedisError::from((
        ErrorKind::UnexpectedReturnType,
        "an entry or a session without a readable field",
        what.to_owned(),
    ))
}

/// An entry of the feed as a stream has it, and its place. It is one field, since each costs time where there are a million
/// entries; in an earlier form it was one for each part.
pub(super) fn read_feed(entry: &Value) -> Result<(Revocation, String), RedisError> {
    let (place, fields) = match entry {
        Value::Array(parts) => match &parts[..] {
            [place, Value::Array(fields)] => (text(place)?, fields),
            _ => return Err(unreadable("an entry")),
        },
        _ => return Err(unreadable("an entry")),
    };
    if let [name, all] = &fields[..]
        && text(name)?.is_empty()
    {
        return Ok((read_entry(text(all)?).ok_or_else(|| unreadable("an entry"))?, place.to_owned()));
    }
    let (pairs, _) = fields.as_chunks::<2>();
    let field = |name: &'static str| {
        let found = pairs.iter().find(|[key, _]| matches!(key, Value::BulkString(key) if key == name.as_bytes()));
        text(&found.ok_or_else(|| unreadable(name))?[1])
    };
    let number = |name: &'static str| field(name)?.parse::<i64>().map_err(|_| unreadable(name));
    let entry = entry_of(field("kind")?, field("name")?.to_owned(), number("up_to")?, number("until")?);
    Ok((entry, place.to_owned()))
}

fn text(value: &Value) -> Result<&str, RedisError> {
    match value {
        Value::BulkString(bytes) => std::str::from_utf8(bytes).map_err(|_| unreadable("text")),
        _ => Err(unreadable("text")),
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    proptest! {
        #![proptest_config(ProptestConfig { failure_persistence: None, ..ProptestConfig::default() })]

        #[test]
        fn times_are_written_in_hex_and_read_back(began_at: i64, idle_until: i64, is_near: bool) {
            let idle_until = if is_near { began_at.wrapping_add(idle_until >> 40) } else { idle_until };
            let [began_at, idle_until] = [began_at, idle_until].map(Timestamp::from_micros);
            let written = times(Spent { began_at, idle_until });
            let later = idle_until.as_micros().wrapping_sub(began_at.as_micros());
            prop_assert_eq!(&written, &format!("{:x} {later:x}", began_at.as_micros()));
            prop_assert_eq!(read_times(&written).expect("times"), Spent { began_at, idle_until });
        }
    }

    #[test]
    fn times_without_a_digit_to_spare_are_written_in_hex() {
        for (began_at, later, written) in
            [(0, 0, "0 0"), (0, 15, "0 f"), (16, -1, "10 ffffffffffffffff"), (i64::MIN, 0, "8000000000000000 0")]
        {
            let began_at = Timestamp::from_micros(began_at);
            let idle_until = Timestamp::from_micros(began_at.as_micros().wrapping_add(later));
            assert_eq!(times(Spent { began_at, idle_until }), written);
        }
    }
}
