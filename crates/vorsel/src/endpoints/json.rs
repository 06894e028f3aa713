//! Bodies of JSON, which come before anybody knows who sends them.

use memchr::memchr3_iter;
use serde::de::DeserializeOwned;

/// How many lists, objects and commas a body may have: each costs far more than a letter.
pub(super) const MOST_PARTS: usize = 512;

/// Reads a body; or says what is wrong with it, in the words of the parser.
pub(super) fn read<T: DeserializeOwned>(body: &[u8]) -> Result<T, String> {
    if memchr3_iter(b',', b'[', b'{', body).nth(MOST_PARTS).is_some() {
        return Err(format!("more than {MOST_PARTS} parts"));
    }
    serde_json::from_slice(body).map_err(|error| error.to_string())
}
