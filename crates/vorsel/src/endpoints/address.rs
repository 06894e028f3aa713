//! The addresses that endpoints are told by: checked once, when they are made.

use std::fmt;
use std::net::IpAddr;

use http::Uri;

/// Why endpoints cannot be set up like this: every reason at once, a line for each.
///
/// ```
/// let error = vorsel::endpoints::resource_metadata_address("api").unwrap_err();
/// assert_eq!(error.problems().len(), 1, "{error}");
/// ```
#[derive(Clone, PartialEq, Eq)]
pub struct EndpointsError {
    pub(super) problems: Vec<String>,
}

vorsel_core::readable_debug!(EndpointsError);

impl EndpointsError {
    /// Each reason.
    #[must_use]
    pub fn problems(&self) -> &[String] {
        &self.problems
    }
}

impl fmt::Display for EndpointsError {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.problems.join("\n"))
    }
}

impl std::error::Error for EndpointsError {}

/// An address of scheme, host and path: https, or http on this machine
/// ([RFC 8414 section 2](https://www.rfc-editor.org/rfc/rfc8414#section-2)).
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) struct Address {
    /// `https://id.skarnhill.test`
    pub(super) origin: String,
    host: String,
    /// `/hill`, or nothing.
    pub(super) path: String,
}

impl Address {
    /// Reads one, or says what is wrong with it; `what` names it.
    pub(super) fn read(what: &str, text: &str) -> Result<Self, String> {
        let wrong = |expected: &str| Err(format!("expected {expected} as {what}, but found {text:?}"));
        if text.contains(['?', '#']) {
            return wrong("an address without a query and a fragment");
        }
        let Ok(uri) = text.parse::<Uri>() else { return wrong("an address such as https://id.skarnhill.test") };
        let (Some(scheme), Some(authority)) = (uri.scheme_str(), uri.authority()) else {
            return wrong("an address such as https://id.skarnhill.test");
        };
        if authority.as_str().contains('@') {
            return wrong("an address without a name and a password");
        }
        let (scheme, host) = (scheme.to_ascii_lowercase(), authority.host().to_ascii_lowercase());
        match scheme.as_str() {
            "https" => {}
            "http" if is_this_machine(&host) => {}
            _ => return wrong("an https address, or an http one on this machine,"),
        }
        let path = uri.path().trim_end_matches('/').to_owned();
        if path.contains(['{', '}', '*', '"']) {
            return wrong("an address whose path is the same wherever it is written");
        }
        Ok(Self { origin: format!("{scheme}://{}", authority.as_str().to_ascii_lowercase()), host, path })
    }

    /// Whether both are on one host, whatever the ports.
    pub(super) fn has_host_of(&self, other: &Self) -> bool {
        self.host == other.host
    }

    /// Whether browsers take both for one site: the same scheme, and hosts with a parent in common. What is sold below a public suffix of two
    /// labels, such as `co.uk`, is not known here and taken for one site.
    pub(super) fn is_same_site(&self, other: &Self) -> bool {
        let scheme = |address: &Self| address.origin.split(':').next().map(str::to_owned);
        let labels = |host: &str| host.rsplit('.').take(2).map(str::to_owned).collect::<Vec<_>>();
        let is_name = |host: &str| host.contains('.') && !is_this_machine(host) && host.parse::<IpAddr>().is_err();
        let is_near = is_name(&self.host) && is_name(&other.host) && labels(&self.host) == labels(&other.host);
        scheme(self) == scheme(other) && (self.host == other.host || is_near)
    }

    pub(super) fn is_on_this_machine(&self) -> bool {
        is_this_machine(&self.host)
    }

    /// The path of a document about it: the well-known name, and its own path behind that
    /// ([RFC 8414 section 3.1](https://www.rfc-editor.org/rfc/rfc8414#section-3.1)).
    pub(super) fn well_known(&self, name: &str) -> String {
        format!("/.well-known/{name}{}", self.path)
    }
}

pub(super) fn is_this_machine(host: &str) -> bool {
    let bare = host.trim_start_matches('[').trim_end_matches(']');
    host == "localhost" || bare.parse::<IpAddr>().is_ok_and(|address| address.is_loopback())
}

/// What the standard calls the document about an API ([RFC 9728 section 3](https://www.rfc-editor.org/rfc/rfc9728#section-3)).
pub(super) const RESOURCE: &str = "oauth-protected-resource";

/// Where the metadata of an API lies whose audience this is, for [`GuardBuilder::resource_metadata`](crate::GuardBuilder::resource_metadata)
/// ([RFC 9728 section 3.1](https://www.rfc-editor.org/rfc/rfc9728#section-3.1)).
///
/// ```
/// let address = vorsel::endpoints::resource_metadata_address("https://api.skarnhill.test/hill")?;
/// assert_eq!(address, "https://api.skarnhill.test/.well-known/oauth-protected-resource/hill");
/// # Ok::<(), vorsel::endpoints::EndpointsError>(())
/// ```
///
/// # Errors
/// If the audience is no address.
pub fn resource_metadata_address(audience: &str) -> Result<String, EndpointsError> {
    let address = Address::read("the audience", audience).map_err(|problem| EndpointsError { problems: vec![problem] });
    address.map(|address| format!("{}{}", address.origin, address.well_known(RESOURCE)))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn an_address_is_https_or_on_this_machine_and_bare() {
        for (text, expected) in [
            ("https://id.skarnhill.test", Some("/.well-known/x")),
            ("https://ID.skarnhill.test/", Some("/.well-known/x")),
            ("https://id.skarnhill.test/hill", Some("/.well-known/x/hill")),
            ("https://id.skarnhill.test:8443/hill/east/", Some("/.well-known/x/hill/east")),
            ("http://localhost:8080", Some("/.well-known/x")),
            ("http://127.0.0.2", Some("/.well-known/x")),
            ("http://[::1]:80", Some("/.well-known/x")),
            ("http://id.skarnhill.test", None),
            ("http://localhost.skarnhill.test", None),
            ("http://127.0.0.1.skarnhill.test", None),
            ("https://id.skarnhill.test?x", None),
            ("https://id.skarnhill.test/#x", None),
            ("https://id.skarnhill.test#", None),
            ("https://somebody@id.skarnhill.test", None),
            ("https://id.skarnhill.test/{hill}", None),
            ("https://id.skarnhill.test/*", None),
            ("ftp://id.skarnhill.test", None),
            ("id.skarnhill.test", None),
            ("https://", None),
            ("/hill", None),
            ("", None),
        ] {
            let read = Address::read("the issuer", text).ok();
            assert_eq!(read.map(|address| address.well_known("x")).as_deref(), expected, "{text:?}");
        }
        let address = |text| Address::read("x", text).expect(text);
        assert!(address("https://a.test:1/x").has_host_of(&address("https://A.test")));
        assert!(!address("https://a.test").has_host_of(&address("https://b.a.test")));
    }
}
