//! What a poll asks for ([RFC 8936 section 2.4](https://www.rfc-editor.org/rfc/rfc8936#section-2.4)).

use std::collections::BTreeMap;
use std::time::Duration;

use http::HeaderMap;
use http::header::AUTHORIZATION;
use memchr::memchr3_iter;
use serde::Deserialize;

use crate::endpoints::form::{Parameters, has_media_type};
use crate::endpoints::reply::Refused;

/// How long a poll waits for news if it does not say so itself, and at most.
const USUAL_WAIT: Duration = Duration::from_secs(20);
const LONGEST_WAIT: Duration = Duration::from_secs(30);

/// How many lists, objects and commas a poll may have: each costs far more than a letter, before anybody knows who polls.
const MOST_PARTS: usize = 512;

/// A poll, and for how long it may be kept waiting.
#[derive(Debug)]
pub(super) struct Poll {
    /// Whether it wants events, or only acknowledges some.
    pub(super) wants_events: bool,
    pub(super) wait: Duration,
    /// The ids of events that have arrived.
    pub(super) acks: Vec<String>,
    /// The client keeps its place itself: the one that it acknowledges, or else the beginning.
    pub(super) has_own_place: bool,
    /// What the client could not read.
    pub(super) errors: BTreeMap<String, EventError>,
}

/// What a client says of an event that it could not read
/// ([RFC 8936 section 2.4.4](https://www.rfc-editor.org/rfc/rfc8936#section-2.4.4)).
#[derive(Debug, Deserialize)]
pub(super) struct EventError {
    pub(super) err: String,
    #[serde(default)]
    pub(super) description: String,
}

/// The members, those by which a client shows who it is beside them, since the body is no form.
#[derive(Deserialize)]
#[serde(rename_all = "camelCase")]
struct Members {
    #[serde(default = "all")]
    max_events: u64,
    #[serde(default)]
    return_immediately: bool,
    #[serde(default)]
    ack: Vec<String>,
    #[serde(default)]
    set_errs: BTreeMap<String, EventError>,
    #[serde(default)]
    own_place: bool,
    #[serde(default, rename = "client_id")]
    client_id: String,
    #[serde(default, rename = "client_secret")]
    client_secret: String,
    #[serde(default, rename = "client_assertion")]
    client_assertion: String,
    #[serde(default, rename = "client_assertion_type")]
    client_assertion_type: String,
}

const fn all() -> u64 {
    u64::MAX
}

impl Poll {
    /// Reads a poll, and what shows its client.
    pub(super) fn read(headers: &HeaderMap, body: &[u8]) -> Result<(Parameters, Self), Refused> {
        if !has_media_type(headers, "application/json") {
            return Err(Refused::request("expected a body of type application/json (RFC 8936 section 2.4)"));
        }
        let other =
            |found: String| Refused::request(format!("expected a poll (RFC 8936 section 2.4), but found {found}"));
        // What is derived would take a list for the members in their order.
        if !body.trim_ascii_start().starts_with(b"{") {
            return Err(other("no object".to_owned()));
        }
        if memchr3_iter(b',', b'[', b'{', body).nth(MOST_PARTS).is_some() {
            return Err(other(format!("more than {MOST_PARTS} lists, objects and commas")));
        }
        let members: Members = serde_json::from_slice(body).map_err(|error| other(error.to_string()))?;
        let shown = [
            ("client_id", members.client_id),
            ("client_secret", members.client_secret),
            ("client_assertion", members.client_assertion),
            ("client_assertion_type", members.client_assertion_type),
        ];
        let shown = shown.into_iter().filter(|(_, value)| !value.is_empty());
        let shown: Vec<_> = shown.map(|(name, value)| (name.to_owned(), value)).collect();
        if shown.is_empty() && !headers.contains_key(AUTHORIZATION) {
            return Err(Refused::client("expected the client's credentials, but found none", true));
        }
        if members.own_place && members.ack.len() > 1 {
            return Err(Refused::request("expected at most one ack of a client that keeps its place itself"));
        }
        let wait = if members.return_immediately { Duration::ZERO } else { wait(headers) };
        let poll = Self {
            wants_events: members.max_events > 0,
            wait,
            acks: members.ack,
            has_own_place: members.own_place,
            errors: members.set_errs,
        };
        Ok((Parameters::of(shown), poll))
    }
}

/// The wait that the client prefers ([RFC 7240 section 4.3](https://www.rfc-editor.org/rfc/rfc7240#section-4.3)).
fn wait(headers: &HeaderMap) -> Duration {
    let lines = headers.get_all("prefer").iter().filter_map(|value| value.to_str().ok());
    let mut preferences = lines.flat_map(|line| line.split([',', ';']));
    let seconds = preferences.find_map(|one| one.trim().strip_prefix("wait=")?.trim_matches('"').parse().ok());
    seconds.map_or(USUAL_WAIT, Duration::from_secs).min(LONGEST_WAIT)
}

#[cfg(test)]
mod tests {
    use http::header::CONTENT_TYPE;

    use super::*;

    fn read(body: &str, header: &[(&str, &str)]) -> Result<Poll, Refused> {
        let mut headers = HeaderMap::new();
        headers.insert(CONTENT_TYPE, "application/json".parse().expect("a header"));
        headers.insert(AUTHORIZATION, "Basic YTpi".parse().expect("a header"));
        for (name, value) in header {
            let name: http::HeaderName = name.parse().expect("a name");
            headers.append(name, value.parse().expect("a header"));
        }
        Poll::read(&headers, body.as_bytes()).map(|(_, poll)| poll)
    }

    /// A poll with a member that begins and ends so around as many parts.
    fn many(member: &str, begin: &str, part: &str, end: &str, count: usize) -> String {
        format!("{{\"{member}\":{begin}{}{end}}}", vec![part; count].join(","))
    }

    #[test]
    fn members_have_their_types_and_their_usual_values() {
        for (body, expected) in [
            ("{}", Some((true, 20, 0))),
            (r#"{"returnImmediately":true,"ack":["a","b"]}"#, Some((true, 0, 2))),
            (r#"{"maxEvents":0,"ack":["a"],"more":1}"#, Some((false, 20, 1))),
            (r#"{"maxEvents":1,"ownPlace":true,"ack":["a"]}"#, Some((true, 20, 1))),
            (r#"{"setErrs":{"a":{"err":"invalid_key"}}}"#, Some((true, 20, 0))),
            (r#"{"ownPlace":true,"ack":["a","b"]}"#, None),
            (r#"{"maxEvents":-1}"#, None),
            (r#"{"maxEvents":null}"#, None),
            (r#"{"maxEvents":1,"maxEvents":2}"#, None),
            (r#"{"returnImmediately":"true"}"#, None),
            (r#"{"ack":"a"}"#, None),
            (r#"{"ack":[1]}"#, None),
            (r#"{"setErrs":{"a":{}}}"#, None),
            ("[]", None),
            ("", None),
            ("{} {}", None),
            (&many("ack", "[", "\"\"", "]", MOST_PARTS - 1), Some((true, 20, MOST_PARTS - 1))),
            (&many("ack", "[", "\"\"", "]", MOST_PARTS), None),
            (&many("setErrs", "{", r#""x":{"err":"x"}"#, "}", MOST_PARTS / 2), None),
            (&many("x", "[", r#"{"y":0}"#, "]", MOST_PARTS / 2), None),
            (&many("x", "0,", r#""y":0"#, "", MOST_PARTS), None),
        ] {
            let found = read(body, &[]).ok().map(|poll| (poll.wants_events, poll.wait.as_secs(), poll.acks.len()));
            assert_eq!(found, expected, "{body}");
        }
    }

    #[test]
    fn a_client_may_prefer_a_shorter_wait() {
        for (lines, expected) in [
            (&[][..], 20),
            (&["wait=2"], 2),
            (&["respond-async, wait=5; x"], 5),
            (&["respond-async", "wait=\"7\""], 7),
            (&["wait=0"], 0),
            (&["wait=31"], 30),
            (&["wait=99999999999999999999"], 20),
            (&["wait=-1"], 20),
            (&["wait"], 20),
        ] {
            let headers: Vec<_> = lines.iter().map(|line| ("prefer", *line)).collect();
            assert_eq!(read("{}", &headers).expect("a poll").wait.as_secs(), expected, "{lines:?}");
        }
    }
}
