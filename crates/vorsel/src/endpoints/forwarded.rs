//! Where a request comes from, as the app's own proxies say it.

use std::net::{IpAddr, SocketAddr};

use http::{HeaderMap, HeaderName};

/// The header in which proxies of the app's own say where a request comes from, and how many of them there are.
#[derive(Clone, Debug)]
pub(super) struct Forwarded {
    pub(super) header: HeaderName,
    pub(super) proxies: usize,
}

impl Forwarded {
    /// The address that the outermost of the app's own proxies has seen: as many from the right as there are proxies. What stands further
    /// left, anybody may have written.
    pub(super) fn address(&self, headers: &HeaderMap) -> Option<IpAddr> {
        let values = headers.get_all(&self.header).iter().filter_map(|value| value.to_str().ok());
        let all: Vec<&str> = values.flat_map(|value| value.split(',')).map(str::trim).collect();
        let text = all.len().checked_sub(self.proxies).and_then(|at| all.get(at))?;
        let bare = text.trim_start_matches('[').split(']').next().unwrap_or_default();
        let with_port = || text.parse::<SocketAddr>().ok().map(|address| address.ip());
        with_port().or_else(|| bare.parse().ok())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_forwarded_address_is_counted_from_the_right() {
        for (lines, proxies, expected) in [
            (&["10.0.0.1"][..], 1, Some("10.0.0.1")),
            (&["6.6.6.6, 10.0.0.1"], 1, Some("10.0.0.1")),
            (&["6.6.6.6, 10.0.0.1, 10.9.9.9"], 2, Some("10.0.0.1")),
            (&["6.6.6.6", "10.0.0.1,10.9.9.9"], 2, Some("10.0.0.1")),
            (&["10.0.0.1"], 2, None),
            (&[], 1, None),
            (&["nonsense"], 1, None),
            (&["10.0.0.1:4711"], 1, Some("10.0.0.1")),
            (&["[2001:db8::1]:4711"], 1, Some("2001:db8::1")),
            (&["[2001:db8::1]"], 1, Some("2001:db8::1")),
            (&["2001:db8::1"], 1, Some("2001:db8::1")),
            (&["10.0.0.1"], 0, None),
        ] {
            let mut headers = HeaderMap::new();
            for line in lines {
                headers.append("x-forwarded-for", line.parse().expect("a header"));
            }
            let forwarded = Forwarded { header: HeaderName::from_static("x-forwarded-for"), proxies };
            let expected = expected.map(|text| text.parse().expect("an address"));
            assert_eq!(forwarded.address(&headers), expected, "{lines:?} {proxies}");
        }
    }
}
