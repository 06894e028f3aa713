//! JWK thumbprints ([RFC 7638 section 3](https://www.rfc-editor.org/rfc/rfc7638#section-3)), the default key ID.

use aws_lc_rs::digest;

use crate::encoding::base64url;

/// The SHA-256 thumbprint over a key's required members, given in lexicographic order as name and value.
/// The values are base64url text or registered names, so nothing in them needs escaping.
pub(super) fn thumbprint(members: &[(&str, &str)]) -> String {
    let mut canonical = zeroize::Zeroizing::new(String::with_capacity(256));
    for (name, value) in members {
        let opening = if canonical.is_empty() { '{' } else { ',' };
        canonical.push(opening);
        for part in ["\"", name, "\":\"", value, "\""] {
            canonical.push_str(part);
        }
    }
    canonical.push('}');
    base64url::encode(digest::digest(&digest::SHA256, canonical.as_bytes()))
}

#[cfg(test)]
mod tests {
    #[test]
    fn rfc_7638_section_3_1_example() {
        let n = "0vx7agoebGcQSuuPiLJXZptN9nndrQmbXEps2aiAFbWhM78LhWx4cbbfAAtVT86zwu1RK7aPFFxuhDR1L6tSoc_BJECPebWKRXjBZCi\
                 FV4n3oknjhMstn64tZ_2W-5JsGY4Hc5n9yBXArwl93lqt7_RN5w6Cf0h4QyQ5v-65YGjQR0_FDW2QvzqY368QQMicAtaSqzs8KJZgnYb9c\
                 7d0zgdAZHzu6qMQvRL5hajrn1n91CbOpbISD08qNLyrdkt-bFTWhAI4vMQFh6WeZu0fM4lFd2NcRwr3XPksINHaQ-G_xBniIqbw0Ls1jF4\
                 4-csFCur-kEgU8awapJzKnqDKgw";
        assert_eq!(
            super::thumbprint(&[("e", "AQAB"), ("kty", "RSA"), ("n", n)]),
            "NzbLsXh8uDCcd-6MNwXF4W_7noWXFZAfHkxZsRGC9Xs"
        );
    }
}
