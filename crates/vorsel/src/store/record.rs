//! How the stores write what has no type of its own in a database.

use vorsel_core::{EndReason, Ended, Revocation, Revoked, Timestamp};

use super::contract::StoreError;

/// A reason that a later release wrote still means that the session is over.
pub(super) fn read_ended(at: Option<i64>, why: Option<&str>) -> Option<Ended> {
    let why = why.and_then(EndReason::from_code).unwrap_or(EndReason::Withdrawn);
    at.map(|at| Ended { at: Timestamp::from_micros(at), why })
}

/// Reads an entry that is written as one text, its kind, its moment, until when it is remembered, and its name, which may be of
/// any signs.
pub(super) fn read_entry(text: &str) -> Option<Revocation> {
    let (kind, rest) = text.split_once(' ')?;
    let (up_to, rest) = rest.split_once(' ')?;
    let (until, name) = rest.split_once(' ')?;
    Some(entry_of(kind, name.to_owned(), up_to.parse().ok()?, until.parse().ok()?))
}

/// One of a kind that a later release has brought in is taken for all tokens up to the moment it was written for: too much is
/// refused rather than too little.
pub(super) fn entry_of(kind: &str, name: String, up_to: i64, until: i64) -> Revocation {
    let (up_to, until) = (Timestamp::from_micros(up_to), Timestamp::from_micros(until));
    let what = match kind {
        "token" => Revoked::Token(name),
        "session" => Revoked::Session(name),
        "key" => Revoked::Key(name),
        "sign-ins" => Revoked::SignIns { up_to },
        "issued-in-session" => Revoked::IssuedInSession { session: name, up_to },
        "issued-to" => Revoked::IssuedTo { subject: name, up_to },
        _ => Revoked::Issued { up_to },
    };
    Revocation { what, until }
}

/// Where a store's form stands, as it says itself, and which steps lead to the present one. A form of a later release is left
/// alone.
pub(super) fn steps_left<M>(migrations: &[M], found: i64) -> Result<&[M], StoreError> {
    let taken = usize::try_from(found).ok().and_then(|taken| migrations.get(taken..));
    taken.ok_or_else(|| {
        let expected = format!("expected a schema of version {} or before, but found {found}", migrations.len());
        StoreError::new("read what a later release has changed", expected)
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    /// A version that is written from anything but the list would have a step taken again at each start.
    #[test]
    fn each_step_is_taken_once_however_many_there_are() {
        let mut steps = Vec::new();
        let mut version = 0;
        for next in ["first", "second", "third", "fourth"] {
            steps.push(next);
            assert_eq!(steps_left(&steps, version).expect("steps"), [next]);
            version = steps.len() as i64;
            assert_eq!(steps_left(&steps, version).expect("steps"), [""; 0]);
        }
        for later in [5, i64::MAX, -1] {
            assert!(steps_left(&steps, later).is_err(), "{later}");
        }
    }
}
