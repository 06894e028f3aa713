//! Form parameters: each at most once, empty ones as if they were not there
//! ([RFC 6749 section 3.2](https://www.rfc-editor.org/rfc/rfc6749#section-3.2)).

use http::HeaderMap;
use http::header::CONTENT_TYPE;
use percent_encoding::percent_decode_str;

use super::reply::Refused;

/// How many parameters a form may have: a token endpoint knows a dozen.
pub(super) const MOST: usize = 64;
/// How much of a name an answer repeats.
const LONGEST_NAME: usize = 80;

/// The parameters of a form.
#[derive(Debug, Default)]
pub(super) struct Parameters(Vec<(String, String)>);

impl Parameters {
    /// Reads a body, if the request says that it is a form.
    pub(super) fn read(headers: &HeaderMap, body: &[u8]) -> Result<Self, Refused> {
        if !has_media_type(headers, "application/x-www-form-urlencoded") {
            return Err(Refused::request("expected a body of type application/x-www-form-urlencoded"));
        }
        let not_utf8 = || Refused::request("expected a form of percent-encoded UTF-8");
        let body = std::str::from_utf8(body).map_err(|_| not_utf8())?;
        let mut parameters: Vec<(String, String)> = Vec::new();
        for (count, pair) in body.split('&').filter(|pair| !pair.is_empty()).enumerate() {
            // Stops at the first one too many, before the others have cost anything.
            if count == MOST {
                return Err(Refused::request(format!("expected at most {MOST} parameters, but found more")));
            }
            let (name, value) = pair.split_once('=').unwrap_or((pair, ""));
            let (name, value) = (decoded(name).ok_or_else(not_utf8)?, decoded(value).ok_or_else(not_utf8)?);
            if value.is_empty() {
                continue;
            }
            if parameters.iter().any(|(earlier, _)| *earlier == name) {
                let name: String = name.chars().take(LONGEST_NAME).collect();
                return Err(Refused::request(format!("expected each parameter once, but found {name} twice")));
            }
            parameters.push((name, value));
        }
        Ok(Self(parameters))
    }

    pub(super) fn of(fields: impl IntoIterator<Item = (String, String)>) -> Self {
        Self(fields.into_iter().collect())
    }

    #[cfg(feature = "password")]
    pub(super) fn into_fields<T: FromIterator<(String, String)>>(self) -> T {
        self.0.into_iter().collect()
    }

    /// A parameter that may be missing.
    pub(super) fn get(&self, name: &str) -> Option<&str> {
        self.0.iter().find(|(known, _)| known == name).map(|(_, value)| value.as_str())
    }

    /// A parameter that must be there.
    pub(super) fn required(&self, name: &str) -> Result<&str, Refused> {
        self.get(name).ok_or_else(|| Refused::request(format!("expected the parameter {name}")))
    }
}

/// Whether the one `Content-Type` is this one: without case, and with or without parameters
/// ([RFC 9110 section 8.3.1](https://www.rfc-editor.org/rfc/rfc9110#section-8.3.1)).
pub(super) fn has_media_type(headers: &HeaderMap, expected: &str) -> bool {
    let mut values = headers.get_all(CONTENT_TYPE).iter();
    let (Some(value), None) = (values.next(), values.next()) else { return false };
    let Ok(value) = value.to_str() else { return false };
    let essence = value.split_once(';').map_or(value, |(essence, _)| essence);
    essence.trim_matches([' ', '\t']).eq_ignore_ascii_case(expected)
}

/// What a name or a value of a form stands for, if that is UTF-8.
pub(super) fn decoded(text: &str) -> Option<String> {
    let spaced = if text.contains('+') { &text.replace('+', " ") } else { text };
    percent_decode_str(spaced).decode_utf8().ok().map(std::borrow::Cow::into_owned)
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn read(content_type: &str, body: &str) -> Result<Parameters, Refused> {
        let mut headers = HeaderMap::new();
        headers.insert(CONTENT_TYPE, content_type.parse().expect("a header"));
        Parameters::read(&headers, body.as_bytes())
    }

    #[test]
    fn a_media_type_is_compared_without_case_and_exactly() {
        for (text, expected) in [
            ("application/x-www-form-urlencoded", true),
            ("Application/X-WWW-Form-Urlencoded ; charset=utf-8", true),
            ("application/x-www-form-urlencoded;", true),
            ("application/x-www-form-urlencodedx", false),
            ("application/x-www-form-urlencoded2; charset=utf-8", false),
            ("text/plain", false),
            ("multipart/form-data", false),
            ("", false),
        ] {
            assert_eq!(read(text, "").is_ok(), expected, "{text:?}");
        }
        let mut twice = HeaderMap::new();
        for _ in 0..2 {
            twice.append(CONTENT_TYPE, "application/x-www-form-urlencoded".parse().expect("a header"));
        }
        assert!(!has_media_type(&twice, "application/x-www-form-urlencoded"));
    }

    proptest! {
        /// Names and values of any characters, empty, joined by the signs of a form, repeated. Left out: bodies above 32 KB, which
        /// the endpoints do not read.
        #[test]
        fn a_form_is_read_as_it_was_written(pairs in proptest::collection::vec((".{0,6}", "[ -~é+&=%\u{0}]{0,6}"), 0..70)) {
            let encode = |text: &str| percent_encoding::utf8_percent_encode(text, percent_encoding::NON_ALPHANUMERIC).to_string();
            let written = pairs.iter().map(|(name, value)| format!("{}={}", encode(name), encode(value)));
            let body = written.collect::<Vec<_>>().join("&");
            let full: Vec<_> = pairs.iter().filter(|(_, value)| !value.is_empty()).collect();
            let is_twice = full.iter().enumerate().any(|(at, (name, _))| full[..at].iter().any(|(earlier, _)| earlier == name));
            match read("application/x-www-form-urlencoded", &body) {
                Ok(form) => {
                    prop_assert!(!is_twice && pairs.len() <= MOST);
                    for (name, value) in full {
                        prop_assert_eq!(form.get(name), Some(value.as_str()));
                    }
                }
                Err(_) => prop_assert!(is_twice || pairs.len() > MOST),
            }
        }

        #[test]
        fn reading_never_panics(body: Vec<u8>) {
            let mut headers = HeaderMap::new();
            headers.insert(CONTENT_TYPE, "application/x-www-form-urlencoded".parse().expect("a header"));
            let _ = Parameters::read(&headers, &body);
        }
    }
}
