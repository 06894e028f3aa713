//! Fetching what an issuer publishes: within a time, up to a size, and from nobody else.

use std::error::Error;
use std::time::Duration;

use http::header::{CACHE_CONTROL, CONTENT_TYPE};
use http::{HeaderMap, StatusCode};
use reqwest::redirect::Policy;
use reqwest::{Client, Url};

use crate::outgoing::{self, Unread};

/// Why it could not be had.
///
/// ```
/// # async fn example() -> Result<(), Box<dyn std::error::Error>> {
/// use vorsel::{FetchError, RemoteIssuer};
///
/// match RemoteIssuer::keys_of("https://id.harbour.test").await {
///     Ok(keys) => println!("{} keys", keys.keys().len()),
///     Err(FetchError::Status { address, found }) => println!("{address} answers {found}"),
///     Err(error) => println!("{error}"),
/// }
/// # Ok(())
/// # }
/// ```
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum FetchError {
    /// It is no address, or one that anybody on the way could answer for.
    #[error("expected an https address, or one on this machine, but found {found:?}")]
    Address {
        /// What was there.
        found: String,
    },
    /// Nobody answered in time, or the connection failed.
    #[error("cannot fetch {address}")]
    Failed {
        /// From where.
        address: String,
        /// Why.
        source: Box<dyn Error + Send + Sync>,
    },
    /// The answer has another status.
    #[error("expected 200 from {address}, but found {found}")]
    Status {
        /// From where.
        address: String,
        /// What came.
        found: StatusCode,
    },
    /// There is more of it than anybody needs.
    #[error("expected at most {limit} bytes from {address}, but found more")]
    Large {
        /// From where.
        address: String,
        /// What would be right.
        limit: usize,
    },
    /// It is something else.
    #[error("expected {expected} from {address}, but found {found}")]
    Content {
        /// From where.
        address: String,
        /// What would be right.
        expected: &'static str,
        /// What was there.
        found: String,
    },
}

/// What came, and for how long it may be kept.
pub(super) struct Fetched {
    pub(super) text: String,
    pub(super) max_age: Option<Duration>,
}

/// An https address, or one on this machine.
pub(super) fn address(text: &str) -> Result<Url, FetchError> {
    outgoing::address(text).ok_or_else(|| FetchError::Address { found: text.to_owned() })
}

/// A client that goes to no other host than it was sent to.
pub(super) fn client(within: Duration) -> Result<Client, reqwest::Error> {
    const MOST_STEPS: usize = 3;
    let policy = Policy::custom(|attempt| {
        let first = attempt.previous().first().map(Url::origin);
        match first == Some(attempt.url().origin()) && attempt.previous().len() <= MOST_STEPS {
            true => attempt.follow(),
            false => attempt.stop(),
        }
    });
    Client::builder().timeout(within).redirect(policy).no_proxy().build()
}

/// Fetches JSON.
pub(super) async fn fetch(client: &Client, url: Url, limit: usize) -> Result<Fetched, FetchError> {
    let address = url.to_string();
    let failed =
        |source: reqwest::Error| FetchError::Failed { address: address.clone(), source: source.without_url().into() };
    let request = client.get(url).header(http::header::ACCEPT, "application/json");
    let mut response = request.send().await.map_err(failed)?;
    if response.status() != StatusCode::OK {
        return Err(FetchError::Status { address, found: response.status() });
    }
    let max_age = max_age(response.headers());
    let media_type = response.headers().get(CONTENT_TYPE).and_then(|value| value.to_str().ok()).map(str::to_owned);
    let bytes = outgoing::whole(&mut response, limit).await.map_err(|unread| match unread {
        Unread::Broken(source) => failed(source),
        Unread::Large => FetchError::Large { address: address.clone(), limit },
    })?;
    let other = |found| FetchError::Content { address: address.clone(), expected: "JSON", found };
    let text = String::from_utf8(bytes).map_err(|_| other("bytes that are no UTF-8".to_owned()))?;
    if !text.trim_start().starts_with('{') {
        return Err(other(media_type.map_or_else(|| "other text".to_owned(), |name| format!("{name:.80}"))));
    }
    Ok(Fetched { text, max_age })
}

/// How long it may be kept ([RFC 9111 section 5.2.2](https://www.rfc-editor.org/rfc/rfc9111#section-5.2.2)).
fn max_age(headers: &HeaderMap) -> Option<Duration> {
    let lines = headers.get_all(CACHE_CONTROL).iter().filter_map(|value| value.to_str().ok());
    let directives: Vec<String> = lines.flat_map(|line| line.split(',')).map(|one| one.trim().to_lowercase()).collect();
    if directives.iter().any(|one| one == "no-store" || one == "no-cache") {
        return Some(Duration::ZERO);
    }
    let seconds = directives.iter().find_map(|one| one.strip_prefix("max-age="))?;
    seconds.trim_matches('"').parse().ok().map(Duration::from_secs)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_may_be_kept_is_said_by_the_header() {
        for (lines, expected) in [
            (&[][..], None),
            (&["max-age=600"], Some(600)),
            (&["public, Max-Age=600"], Some(600)),
            (&["public", "max-age=\"60\""], Some(60)),
            (&["no-store, max-age=600"], Some(0)),
            (&["max-age=600", "no-cache"], Some(0)),
            (&["max-age=soon"], None),
            (&["max-age=-1"], None),
            (&["max-age=99999999999999999999999"], None),
        ] {
            let mut headers = HeaderMap::new();
            for line in lines {
                headers.append(CACHE_CONTROL, line.parse().expect("a value"));
            }
            assert_eq!(max_age(&headers).map(|age| age.as_secs()), expected, "{lines:?}");
        }
    }
}
