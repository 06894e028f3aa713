//! Base64url as JOSE wants it: no padding, no line breaks, no loose trailing bits
//! ([RFC 7515 section 2](https://www.rfc-editor.org/rfc/rfc7515#section-2),
//! [RFC 4648 section 3.5](https://www.rfc-editor.org/rfc/rfc4648#section-3.5)).

use base64_simd::{AsOut, URL_SAFE_NO_PAD};

/// The text is not base64url without padding, or its last character carries loose bits.
///
/// ```
/// let error = vorsel_core::base64url::decode("YQ==").unwrap_err();
/// assert_eq!(error.to_string(), "expected base64url without padding and without loose trailing bits");
/// ```
#[derive(Clone, Copy, Debug, PartialEq, Eq, thiserror::Error)]
#[error("expected base64url without padding and without loose trailing bits")]
pub struct Base64Error;

/// Encodes without padding.
#[must_use]
pub fn encode(bytes: impl AsRef<[u8]>) -> String {
    URL_SAFE_NO_PAD.encode_to_string(bytes)
}

/// Appends the encoding of `bytes` to `text`.
pub(crate) fn encode_onto(bytes: &[u8], text: &mut String) {
    URL_SAFE_NO_PAD.encode_append(bytes, text);
}

/// How many characters the encoding of so many bytes has.
pub(crate) const fn encoded_length(bytes: usize) -> usize {
    URL_SAFE_NO_PAD.encoded_length(bytes)
}

/// The encoding of `bytes`, in `room`, which is large enough.
pub(crate) fn encode_into<'r>(bytes: &[u8], room: &'r mut [u8]) -> &'r str {
    URL_SAFE_NO_PAD.encode_as_str(bytes, room.as_out())
}

/// Decodes strictly: one byte string has exactly one spelling.
///
/// # Errors
/// If a character is outside the alphabet, padding is there, the length is impossible, or bits are loose.
pub fn decode(text: impl AsRef<[u8]>) -> Result<Vec<u8>, Base64Error> {
    URL_SAFE_NO_PAD.decode_to_vec(text).map_err(|_| Base64Error)
}

/// [`decode`] into a slice that is long enough; how many bytes there were.
pub(crate) fn decode_into(text: &[u8], bytes: &mut [u8]) -> Result<usize, Base64Error> {
    URL_SAFE_NO_PAD.decode(text, bytes.as_out()).map(|decoded| decoded.len()).map_err(|_| Base64Error)
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn only_the_one_right_spelling_is_read() {
        for (text, read) in [
            ("", Some(&b""[..])),
            ("AA", Some(b"\0")),
            ("AB", None),
            ("AAA", Some(b"\0\0")),
            ("AAB", None),
            ("AA==", None),
            ("AA=", None),
            ("A", None),
            ("AAAAA", None),
            ("-_-_", Some(b"\xfb\xff\xbf")),
            ("+/+/", None),
            ("AA\n", None),
            (" AA", None),
            ("A A", None),
        ] {
            assert_eq!(decode(text).ok().as_deref(), read, "{text:?}");
        }
    }

    proptest! {
        #[test]
        fn whatever_decodes_encodes_back_to_the_same_text(text in "[-_A-Za-z0-9+/=]{0,48}") {
            if let Ok(bytes) = decode(&text) {
                prop_assert_eq!(encode(bytes), text);
            }
        }

        #[test]
        fn bytes_survive_the_round_trip(bytes: Vec<u8>) {
            prop_assert_eq!(decode(encode(&bytes)), Ok(bytes));
        }
    }
}
