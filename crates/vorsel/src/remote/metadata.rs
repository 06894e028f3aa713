//! An issuer's metadata: where it is, and what of it is used.

use reqwest::{Client, Url};
use serde::Deserialize;

use super::fetch::{FetchError, address, fetch};

/// Metadata has a few kilobytes.
const LARGEST: usize = 64 * 1024;

/// What of the metadata is used ([RFC 8414 section 2](https://www.rfc-editor.org/rfc/rfc8414#section-2)).
#[derive(Deserialize)]
struct Metadata {
    issuer: String,
    jwks_uri: Option<String>,
}

/// Where the metadata may lie: between host and path ([RFC 8414 section 3](https://www.rfc-editor.org/rfc/rfc8414#section-3)), or behind
/// the path ([OpenID Connect Discovery section 4](https://openid.net/specs/openid-connect-discovery-1_0.html#ProviderConfig)).
pub(super) fn places(issuer: &Url) -> [Url; 2] {
    let path = issuer.path().trim_end_matches('/');
    let at = |path: String| {
        let mut url = issuer.clone();
        url.set_path(&path);
        url
    };
    [
        at(format!("/.well-known/oauth-authorization-server{path}")),
        at(format!("{path}/.well-known/openid-configuration")),
    ]
}

/// Where the issuer's keys are, as it says itself.
pub(super) async fn keys_address(client: &Client, issuer: &str) -> Result<Url, FetchError> {
    let home = address(issuer)?;
    let [first, second] = places(&home);
    let (place, fetched) = match fetch(client, first.clone(), LARGEST).await {
        // It has no such address; anything else would not be better there.
        Err(FetchError::Status { found, .. }) if found.is_client_error() => {
            (second.clone(), fetch(client, second, LARGEST).await?)
        }
        fetched => (first, fetched?),
    };
    let content = |expected, found| FetchError::Content { address: place.to_string(), expected, found };
    let metadata: Metadata =
        serde_json::from_str(&fetched.text).map_err(|error| content("an issuer's metadata", error.to_string()))?;
    // Another issuer's metadata would have its keys taken for this one's (RFC 8414 section 3.3).
    if metadata.issuer != issuer {
        return Err(content("metadata of the issuer that was asked", format!("that of {:?}", cut(&metadata.issuer))));
    }
    match metadata.jwks_uri {
        // One that is elsewhere has nothing to send us to on this machine.
        Some(keys) => address(&keys).and_then(|keys| match keys.scheme() == "https" || home.scheme() == "http" {
            true => Ok(keys),
            false => Err(FetchError::Address { found: keys.to_string() }),
        }),
        None => Err(content("a jwks_uri", "metadata without one".to_owned())),
    }
}

fn cut(text: &str) -> String {
    text.chars().take(200).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn metadata_lies_where_the_standards_have_it() {
        for (issuer, first, second) in [
            (
                "https://id.skarnhill.test",
                "https://id.skarnhill.test/.well-known/oauth-authorization-server",
                "https://id.skarnhill.test/.well-known/openid-configuration",
            ),
            (
                "https://id.skarnhill.test/lab/",
                "https://id.skarnhill.test/.well-known/oauth-authorization-server/lab",
                "https://id.skarnhill.test/lab/.well-known/openid-configuration",
            ),
        ] {
            let found = places(&Url::parse(issuer).expect("an address")).map(|place| place.to_string());
            assert_eq!(found, [first, second]);
        }
    }
}
