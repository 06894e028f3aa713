//! What a sign-in leaves behind: the facts of a session that no renewal changes, and the one form in which stores keep them.

use serde::{Deserialize, Serialize};
use zeroize::Zeroizing;

use super::limits::SessionLimits;
use crate::encoding::base64url;
use crate::key::Secret;
use crate::time::Timestamp;
use crate::token::Scopes;

/// A sign-in: who, by which client, on which device, and how. The app has checked the password, or whatever proves it.
///
/// ```
/// use vorsel_core::{Scopes, SignIn};
///
/// let sign_in = SignIn::new("obs-0017", "desk").device("dome terminal").scopes(Scopes::parse("exposures:read")?);
/// assert_eq!((sign_in.subject(), sign_in.client_id()), ("obs-0017", "desk"));
/// # Ok::<(), vorsel_core::ScopeError>(())
/// ```
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct SignIn {
    subject: String,
    client_id: String,
    device: Option<String>,
    acr: Option<String>,
    scopes: Option<Scopes>,
}

/// A label is for people to read.
const LONGEST_LABEL: usize = 100;

impl SignIn {
    /// The subject signs in by this client.
    #[must_use]
    pub fn new(subject: impl Into<String>, client_id: impl Into<String>) -> Self {
        Self { subject: subject.into(), client_id: client_id.into(), device: None, acr: None, scopes: None }
    }

    /// What the user calls the device. Control characters are left out, and what is beyond 100 characters.
    #[must_use]
    pub fn device(mut self, label: &str) -> Self {
        let label: String = label.chars().filter(|c| !c.is_control()).take(LONGEST_LABEL).collect();
        self.device = Some(label);
        self
    }

    /// How the caller authenticated, `acr`; every access token of the session says so.
    #[must_use]
    pub fn acr(mut self, acr: impl Into<String>) -> Self {
        self.acr = Some(acr.into());
        self
    }

    /// The scopes asked for: no token of the session ever has others, whatever the app grants later
    /// ([RFC 6749 section 6](https://www.rfc-editor.org/rfc/rfc6749#section-6)). Without this the ceiling is what the client may
    /// have, or, where no clients are registered, what the plan declares.
    #[must_use]
    pub fn scopes(mut self, scopes: Scopes) -> Self {
        self.scopes = Some(scopes);
        self
    }

    /// The scopes asked for, if any were.
    #[must_use]
    pub const fn asked_scopes(&self) -> Option<&Scopes> {
        self.scopes.as_ref()
    }

    /// How the caller authenticated, if it was said.
    #[must_use]
    pub fn acr_value(&self) -> Option<&str> {
        self.acr.as_deref()
    }

    /// Who signs in.
    #[must_use]
    pub fn subject(&self) -> &str {
        &self.subject
    }

    /// By which client.
    #[must_use]
    pub fn client_id(&self) -> &str {
        &self.client_id
    }
}

/// What is known of a session from its beginning on. A fact that is added here costs no store anything: stores keep what
/// [`to_bytes`](Self::to_bytes) gives them, and columns of their own only for what is searched for.
///
/// ```
/// # use vorsel_core::{Algorithm, RefreshTokens, Secret, Session, SessionLimits, SessionSeed, SignIn, SigningKey, Timestamp};
/// # let (now, limits) = (Timestamp::from_secs(1_700_000_000), SessionLimits::default());
/// # let key = SigningKey::hmac(Algorithm::Hs256, Secret::from(std::array::from_fn::<u8, 32, _>(|place| place as u8)))?;
/// # let tokens = RefreshTokens::new("https://id.skarnhill.test", key)?;
/// # let session = Session::begin(SessionSeed::new("s1", [7; 32]), SignIn::new("obs-0017", "desk"), &limits, now);
/// use vorsel_core::Facts;
///
/// let kept = session.facts.to_bytes();
/// assert_eq!(Facts::from_bytes(&kept)?, *session.facts);
/// # Ok::<(), Box<dyn std::error::Error>>(())
/// ```
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub struct Facts {
    /// Who signed in, `sub`.
    pub subject: String,
    /// The client that signed in, `client_id`.
    pub client_id: String,
    /// What the IDs of the session's refresh tokens are derived from.
    pub secret: Secret,
    /// When the session began.
    pub started_at: Timestamp,
    /// When the session ends however often it is renewed.
    pub ends_at: Timestamp,
    /// When the caller last authenticated, `auth_time`: at the start, unless that was done before.
    pub authenticated_at: Timestamp,
    /// What the user calls the device, if anything.
    pub device: Option<String>,
    /// How the caller authenticated, `acr`, if the app said so at sign-in.
    pub acr: Option<String>,
    /// The ceiling of its scopes; nothing if whatever the app grants is given.
    pub scopes: Option<Scopes>,
    /// The thumbprint of the key that the session is bound to, if it is bound to one
    /// ([RFC 9449 section 5](https://www.rfc-editor.org/rfc/rfc9449#section-5)).
    pub bound_to: Option<String>,
}

/// Bytes that are not the facts of a session.
///
/// ```
/// let error = vorsel_core::Facts::from_bytes(b"{\"v\":2}").unwrap_err();
/// assert_eq!(error.to_string(), "expected the facts of a session in version 1, but found version 2");
/// ```
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("expected the facts of a session in version {VERSION}, but found {found}")]
pub struct FactsError {
    /// What was there; never a value.
    pub found: String,
}

/// A reader leaves members alone that it does not know, so a fact that nobody is harmed by overlooking needs no other
/// version. One that restricts what a session may do does.
const VERSION: u8 = 1;

#[derive(Serialize, Deserialize)]
struct Form {
    v: u8,
    sub: String,
    client_id: String,
    secret: String,
    /// This and the other times in microseconds since 1970.
    start: i64,
    end: i64,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    auth_time: Option<i64>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    device: Option<String>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    acr: Option<String>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    scope: Option<String>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    jkt: Option<String>,
}

impl Facts {
    pub(super) fn of(sign_in: SignIn, secret: Secret, limits: &SessionLimits, now: Timestamp) -> Self {
        let SignIn { subject, client_id, device, acr, scopes } = sign_in;
        Self {
            subject,
            client_id,
            secret,
            started_at: now,
            ends_at: now.after(limits.absolute.as_duration()),
            authenticated_at: now,
            device,
            acr,
            scopes,
            bound_to: None,
        }
    }

    /// The facts as a store keeps them. They hold the session's secret, which is of no use without the signing key.
    #[must_use]
    pub fn to_bytes(&self) -> Zeroizing<Vec<u8>> {
        let mut form = Form {
            v: VERSION,
            sub: self.subject.clone(),
            client_id: self.client_id.clone(),
            secret: base64url::encode(self.secret.reveal()),
            start: self.started_at.as_micros(),
            end: self.ends_at.as_micros(),
            auth_time: (self.authenticated_at != self.started_at).then(|| self.authenticated_at.as_micros()),
            device: self.device.clone(),
            acr: self.acr.clone(),
            scope: self.scopes.as_ref().map(Scopes::to_string),
            jkt: self.bound_to.clone(),
        };
        // Numbers and texts always serialize.
        let bytes = serde_json::to_vec(&form).unwrap_or_default();
        zeroize::Zeroize::zeroize(&mut form.secret);
        Zeroizing::new(bytes)
    }

    /// Reads what [`to_bytes`](Self::to_bytes) wrote.
    ///
    /// # Errors
    /// If the bytes are something else, or of a later version: such a session is not renewed here, since what restricts it
    /// might be overlooked.
    pub fn from_bytes(bytes: &[u8]) -> Result<Self, FactsError> {
        #[derive(Deserialize)]
        struct Version {
            v: u8,
        }
        let unreadable = |found: &str| FactsError { found: found.to_owned() };
        match serde_json::from_slice::<Version>(bytes) {
            Ok(Version { v: VERSION }) => {}
            Ok(Version { v: other }) => return Err(unreadable(&format!("version {other}"))),
            Err(_) => return Err(unreadable("other bytes")),
        }
        let mut form: Form =
            serde_json::from_slice(bytes).map_err(|_| unreadable("a member missing or of another type"))?;
        let secret = base64url::decode(&form.secret).map_err(|_| unreadable("a secret that is not base64url"));
        zeroize::Zeroize::zeroize(&mut form.secret);
        let scopes = form.scope.as_deref().map(Scopes::parse).transpose();
        Ok(Self {
            secret: Secret::new(secret?),
            started_at: Timestamp::from_micros(form.start),
            ends_at: Timestamp::from_micros(form.end),
            authenticated_at: Timestamp::from_micros(form.auth_time.unwrap_or(form.start)),
            scopes: scopes.map_err(|_| unreadable("invalid scopes"))?,
            subject: form.sub,
            client_id: form.client_id,
            device: form.device,
            acr: form.acr,
            bound_to: form.jkt,
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn facts() -> impl Strategy<Value = Facts> {
        let text = || proptest::option::of(".{0,20}");
        let times = (any::<i64>(), any::<i64>(), proptest::option::of(any::<i64>()));
        let texts = (
            ".{0,12}",
            ".{0,12}",
            text(),
            text(),
            proptest::option::of("([!#-\\[]{1,5}( [!#-\\[]{1,5}){0,3})?"),
            text(),
        );
        (texts, times, any::<Vec<u8>>()).prop_map(|(texts, (start, end, auth), secret)| {
            let (subject, client_id, device, acr, scopes, bound_to) = texts;
            Facts {
                subject,
                client_id,
                secret: Secret::new(secret),
                started_at: Timestamp::from_micros(start),
                ends_at: Timestamp::from_micros(end),
                authenticated_at: Timestamp::from_micros(auth.unwrap_or(start)),
                device,
                acr,
                scopes: scopes.map(|scopes| Scopes::parse(&scopes).expect("scopes")),
                bound_to,
            }
        })
    }

    proptest! {
        #[test]
        fn facts_survive_their_form(facts in facts()) {
            prop_assert_eq!(Facts::from_bytes(&facts.to_bytes()), Ok(facts));
        }

        #[test]
        fn reading_never_panics(bytes: Vec<u8>) {
            let _ = Facts::from_bytes(&bytes);
        }
    }

    #[test]
    fn what_is_no_form_of_ours_says_what_it_is_and_what_is_new_is_left_alone() {
        let good = r#"{"v":1,"sub":"obs-0017","client_id":"desk","secret":"BwcH","start":1,"end":2,"later":true}"#;
        let facts = Facts::from_bytes(good.as_bytes()).expect("facts");
        assert_eq!((facts.secret.reveal(), facts.authenticated_at), (&[7, 7, 7][..], Timestamp::from_micros(1)));
        assert_eq!((facts.device, facts.scopes, facts.bound_to), (None, None, None));
        for (from, to, found) in [
            ("\"v\":1", "\"v\":2", "version 2"),
            ("\"v\":1,", "", "other bytes"),
            ("\"start\":1", "\"start\":\"1\"", "a member missing or of another type"),
            ("\"sub\":\"obs-0017\",", "", "a member missing or of another type"),
            ("BwcH", "Bw=", "a secret that is not base64url"),
            ("\"later\":true", "\"scope\":\"a  b\"", "invalid scopes"),
        ] {
            let error = Facts::from_bytes(good.replace(from, to).as_bytes()).expect_err(from).to_string();
            assert_eq!(error, format!("expected the facts of a session in version 1, but found {found}"));
        }
    }
}
