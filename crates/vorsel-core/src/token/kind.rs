//! What a token is for.

use std::fmt;

/// What a token is for; a token of one kind never passes for another
/// ([RFC 8725 section 3.11](https://www.rfc-editor.org/rfc/rfc8725#section-3.11)).
///
/// ```
/// use vorsel_core::Kind;
///
/// assert_eq!(Kind::Access.typ(), "at+jwt");
/// assert!(Kind::Access.agrees_with(Some("application/at+jwt")));
/// assert!(!Kind::Access.agrees_with(Some("JWT")));
/// ```
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
#[non_exhaustive]
pub enum Kind {
    /// An access token ([RFC 9068](https://www.rfc-editor.org/rfc/rfc9068)), `typ` `at+jwt`.
    Access,
    /// A refresh token of ours, `typ` `refresh+jwt`, checked only by its issuer.
    Refresh,
    /// A one-purpose token of ours, `typ` `once+jwt`, checked only by its issuer.
    OnePurpose,
    /// What an issuer tells those who follow it ([RFC 8417](https://www.rfc-editor.org/rfc/rfc8417)), `typ` `secevent+jwt`. It is no
    /// credential and has no `exp`.
    SecurityEvent,
    /// Any JWT with `exp`; `typ` absent or `JWT`.
    Plain,
}

impl Kind {
    /// The header's `typ` for tokens of this kind.
    #[must_use]
    pub const fn typ(self) -> &'static str {
        match self {
            Self::Access => "at+jwt",
            Self::Refresh => "refresh+jwt",
            Self::OnePurpose => "once+jwt",
            Self::SecurityEvent => "secevent+jwt",
            Self::Plain => "JWT",
        }
    }

    /// Whether a header's `typ` names this kind, case-insensitively and with or without `application/`
    /// ([RFC 7515 section 4.1.9](https://www.rfc-editor.org/rfc/rfc7515#section-4.1.9)).
    #[must_use]
    pub fn agrees_with(self, typ: Option<&str>) -> bool {
        const PREFIX: &str = "application/";
        let Some(typ) = typ else { return self == Self::Plain };
        if typ == self.typ() {
            return true;
        }
        let bare = match typ.get(..PREFIX.len()) {
            Some(prefix) if prefix.eq_ignore_ascii_case(PREFIX) => &typ[PREFIX.len()..],
            _ => typ,
        };
        bare.eq_ignore_ascii_case(self.typ())
    }

    /// The claims a token of this kind must carry: [RFC 9068 section 2.2](https://www.rfc-editor.org/rfc/rfc9068#section-2.2)
    /// for access tokens,
    /// [RFC 8417 section 2.2](https://www.rfc-editor.org/rfc/rfc8417#section-2.2) for security events.
    pub(crate) const fn required_claims(self) -> &'static [&'static str] {
        match self {
            Self::Access => &["iss", "exp", "aud", "sub", "client_id", "iat", "jti"],
            Self::Refresh => &["iss", "exp", "aud", "sub", "client_id", "iat", "jti", "sid"],
            Self::OnePurpose => &["iss", "exp", "aud", "sub", "iat", "jti"],
            Self::SecurityEvent => &["iss", "aud", "iat", "jti", "events"],
            Self::Plain => &["exp"],
        }
    }
}

impl fmt::Display for Kind {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            Self::Access => "access",
            Self::Refresh => "refresh",
            Self::OnePurpose => "one-purpose",
            Self::SecurityEvent => "security-event",
            Self::Plain => "plain",
        })
    }
}

#[cfg(test)]
mod tests {
    use super::Kind::{Access, OnePurpose, Plain, Refresh, SecurityEvent};

    #[test]
    fn typ_is_compared_without_case_and_prefix() {
        for (typ, kind) in [
            (Some("at+jwt"), Some(Access)),
            (Some("AT+JWT"), Some(Access)),
            (Some("application/at+jwt"), Some(Access)),
            (Some("Application/AT+jwt"), Some(Access)),
            (Some("refresh+jwt"), Some(Refresh)),
            (Some("once+jwt"), Some(OnePurpose)),
            (Some("application/SecEvent+jwt"), Some(SecurityEvent)),
            (Some("JWT"), Some(Plain)),
            (Some("jwt"), Some(Plain)),
            (None, Some(Plain)),
            (Some(""), None),
            (Some("application/"), None),
            (Some("application/application/at+jwt"), None),
            (Some("at+jwt "), None),
            (Some("JWE"), None),
            (Some("ápplication/at+jwt"), None),
        ] {
            for candidate in [Access, Refresh, OnePurpose, SecurityEvent, Plain] {
                assert_eq!(candidate.agrees_with(typ), kind == Some(candidate), "{typ:?} as {candidate}");
            }
        }
    }
}
