//! Checking a token: the one place where claims become believed.

use std::ops::ControlFlow;
use std::sync::Arc;

use serde::de::DeserializeOwned;
use serde_json::Value;

use super::audit::{Audit, EveryFinding, FirstFailure};
use super::expectations::{Expectations, ExpectedAudience};
use crate::finding::{Check, Detail, Finding, quoted, quoted_list};
use crate::key::{Algorithm, CandidateError, KeySet, VerifyingKey};
use crate::time::{Timestamp, spoken};
use crate::token::{Checked, Claims, Compact, Header, Kind, Reading, header_segment, payload, registered_bit};

/// Checks tokens against the keys it trusts and the expectations it was given. Plain data: no IO, no clock.
///
/// ```
/// use vorsel_core::{AccessDraft, Algorithm, Check, Expectations, Issuer, KeySet, Lifetime, SigningKey, Timestamp, Verifier};
///
/// let key = SigningKey::generate(Algorithm::EdDsa)?;
/// let expectations = Expectations::access("https://id.skarnhill.test", "https://api.skarnhill.test");
/// let verifier = Verifier::new(KeySet::new([key.verifying_key()]), expectations);
///
/// let issuer = Issuer::new("https://id.skarnhill.test", key);
/// let draft = AccessDraft::of("obs-0017").audience("https://other.skarnhill.test").client("desk").lasting(Lifetime::minutes(5));
/// let now = Timestamp::from_secs(1_700_000_000);
/// let finding = verifier.check(issuer.access(&draft, "t1", now)?, now).unwrap_err();
/// assert_eq!(finding.check, Check::Audience, "{finding}");
/// # Ok::<(), Box<dyn std::error::Error>>(())
/// ```
#[derive(Clone, Debug)]
pub struct Verifier {
    keys: KeySet,
    expectations: Expectations,
    algorithms: Vec<Algorithm>,
    /// The headers that issuers of ours write with the first few keys, so that they need not be read each time.
    usual_headers: Vec<String>,
    /// The registered claims that must be there, and those of the app's own.
    required: (u16, Vec<String>),
}

/// What the sender of a token has proven besides having it.
///
/// ```
/// use vorsel_core::Proven;
///
/// let thumbprint = "0ZcOCORZNYy-DWpqq30jZyJGHTN0d2HglBV3uiguA4I";
/// assert_ne!(Proven::Key(thumbprint), Proven::default());
/// ```
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
#[non_exhaustive]
pub enum Proven<'p> {
    /// Nothing.
    #[default]
    Nothing,
    /// That it holds the key of this thumbprint ([RFC 9449 section 6](https://www.rfc-editor.org/rfc/rfc9449#section-6)).
    Key(&'p str),
}

/// More headers than this would take longer to compare with than one takes to read.
const MOST_USUAL_HEADERS: usize = 4;

/// All findings for one token, in the order checked.
///
/// ```
/// # use vorsel_core::{Algorithm, Expectations, KeySet, NoOwn, SigningKey, Timestamp, Verifier};
/// # let keys = KeySet::new([SigningKey::generate(Algorithm::EdDsa)?.verifying_key()]);
/// # let verifier = Verifier::new(keys, Expectations::access("https://id.skarnhill.test", "https://api.skarnhill.test"));
/// let findings = verifier.examine::<NoOwn>("no token", Timestamp::from_secs(1_700_000_000));
/// assert!(findings.accepted().is_none());
/// for finding in findings.refused_for() {
///     println!("{finding}");
/// }
/// # Ok::<(), vorsel_core::KeyError>(())
/// ```
#[derive(Clone, Debug)]
pub struct Findings<C> {
    findings: Vec<Finding>,
    checked: Option<Checked<C>>,
}

impl<C> Findings<C> {
    /// Each finding, held or not.
    pub fn iter(&self) -> impl Iterator<Item = &Finding> {
        self.findings.iter()
    }

    /// The findings that did not hold. None means the token is accepted.
    pub fn refused_for(&self) -> impl Iterator<Item = &Finding> {
        self.findings.iter().filter(|finding| !finding.held)
    }

    /// The claims, if every check held.
    #[must_use]
    pub const fn accepted(&self) -> Option<&Checked<C>> {
        self.checked.as_ref()
    }
}

impl Verifier {
    /// A verifier that trusts `keys` and requires `expectations`. The algorithms allowed are those of the keys, or
    /// fewer if the expectations say so.
    #[must_use]
    pub fn new(keys: KeySet, expectations: Expectations) -> Self {
        // Without any key it is the key that is missing, not the algorithm that is wrong.
        let mut algorithms = if keys.keys().is_empty() { Algorithm::ALL.to_vec() } else { keys.algorithms() };
        if let Some(allowed) = &expectations.algorithms {
            algorithms.retain(|algorithm| allowed.contains(algorithm));
        }
        let usual_keys = keys.keys().iter().take(MOST_USUAL_HEADERS);
        let usual_headers = usual_keys.map(|key| header_segment(key, expectations.kind)).collect();
        let (own, registered): (Vec<_>, Vec<_>) =
            expectations.required.iter().cloned().partition(|name| registered_bit(name) == 0);
        let required = (registered.iter().fold(0, |bits, name| bits | registered_bit(name)), own);
        Self { keys, expectations, algorithms, usual_headers, required }
    }

    /// What this verifier requires.
    #[must_use]
    pub const fn expectations(&self) -> &Expectations {
        &self.expectations
    }

    /// Checks a token at the moment `now` and gives its claims. For an app with claims of its own there is
    /// [`check_as`](Self::check_as).
    ///
    /// # Errors
    /// As [`check_as`](Self::check_as).
    pub fn check(&self, token: impl AsRef<[u8]>, now: Timestamp) -> Result<Checked, Box<Finding>> {
        self.check_as(token, now)
    }

    /// Checks a token at the moment `now` and gives its claims, with the app's own part as `C`.
    ///
    /// # Errors
    /// The first finding that does not hold. It is for the log; the client gets no more than
    /// [`Answer`](crate::Answer) says.
    pub fn check_as<C: DeserializeOwned>(
        &self,
        token: impl AsRef<[u8]>,
        now: Timestamp,
    ) -> Result<Checked<C>, Box<Finding>> {
        self.check_proven(token, Proven::Nothing, now)
    }

    /// [`check_as`](Self::check_as) of a token whose sender has proven something: a token that is bound to a key (`cnf`) is
    /// accepted if that key is the one.
    ///
    /// # Errors
    /// As [`check_as`](Self::check_as).
    pub fn check_proven<C: DeserializeOwned>(
        &self,
        token: impl AsRef<[u8]>,
        proven: Proven<'_>,
        now: Timestamp,
    ) -> Result<Checked<C>, Box<Finding>> {
        let mut audit = FirstFailure::default();
        let run = Run { verifier: self, proven, now, audit: &mut audit };
        match run.token(token.as_ref()) {
            ControlFlow::Continue(Some(checked)) if audit.0.is_none() => Ok(checked),
            _ => Err(audit.0.unwrap_or_else(no_finding)),
        }
    }

    /// Makes those checks again that change from one request to the next, on a token that this verifier has accepted before:
    /// its times, and what its sender has proven.
    ///
    /// # Errors
    /// The first finding that does not hold any more.
    pub fn check_again<C>(&self, checked: &Checked<C>, proven: Proven<'_>, now: Timestamp) -> Result<(), Box<Finding>> {
        if checked.is_undoubted(now) {
            return Ok(());
        }
        let claims = checked.claims();
        let mut audit = FirstFailure::default();
        let mut run = Run { verifier: self, proven, now, audit: &mut audit };
        let outcome = match run.times(claims) {
            ControlFlow::Continue(()) => run.confirmation(claims),
            failed => failed,
        };
        if outcome.is_continue() { Ok(()) } else { Err(audit.0.unwrap_or_else(no_finding)) }
    }

    /// Makes every check that the token can be brought to, and keeps every finding. Accepts exactly what
    /// [`check_as`](Self::check_as) accepts, and the first finding that does not hold is the one it returns.
    pub fn examine<C: DeserializeOwned>(&self, token: impl AsRef<[u8]>, now: Timestamp) -> Findings<C> {
        let mut audit = EveryFinding::default();
        let run = Run { verifier: self, proven: Proven::Nothing, now, audit: &mut audit };
        let outcome = run.token(token.as_ref());
        let findings = audit.0;
        let checked = match outcome {
            ControlFlow::Continue(checked) if findings.iter().all(|finding| finding.held) => checked,
            _ => None,
        };
        Findings { findings, checked }
    }
}

/// A run that ended without a result has left a finding; should one ever be missing, the token is refused all the same.
#[cold]
fn no_finding() -> Box<Finding> {
    debug_assert!(false, "a refused token has a finding");
    Box::new(Finding {
        check: Check::TokenForm,
        held: false,
        expected: "a token that can be checked".to_owned(),
        found: "one that cannot".to_owned(),
    })
}

/// One token on its way through the checks.
pub(super) struct Run<'a, A> {
    verifier: &'a Verifier,
    proven: Proven<'a>,
    now: Timestamp,
    audit: &'a mut A,
}

impl<'a, A: Audit> Run<'a, A> {
    /// Of whoever has proven nothing.
    pub(super) const fn of(verifier: &'a Verifier, now: Timestamp, audit: &'a mut A) -> Self {
        Self { verifier, proven: Proven::Nothing, now, audit }
    }

    fn token<C: DeserializeOwned>(mut self, token: &[u8]) -> ControlFlow<(), Option<Checked<C>>> {
        let limit = self.verifier.expectations.size_limit;
        let Some(parts) = self.readable(Check::TokenForm, Compact::read(token, limit))? else {
            return ControlFlow::Continue(None);
        };
        let usual = self.usual_header(parts.header_segment());
        let bytes = if usual.is_some() { Ok(Vec::new()) } else { parts.header() };
        let Some(bytes) = self.readable(Check::TokenForm, bytes)? else { return ControlFlow::Continue(None) };
        let header = usual.map_or_else(|| Header::read(&bytes), Ok);
        let Some(header) = self.readable(Check::TokenForm, header)? else { return ControlFlow::Continue(None) };
        self.audit.note(Check::TokenForm, true, || Detail::new("a signed token in compact form", "three segments"))?;
        self.header(&header)?;
        let key_id = self.signature(&header, &parts)?;
        let claims = payload::read(parts.payload, &self.verifier.expectations.reading);
        let Some(claims) = self.readable(Check::ClaimsForm, claims)? else { return ControlFlow::Continue(None) };
        self.audit
            .note(Check::ClaimsForm, true, || Detail::new("claims whose members have their types", "well formed"))?;
        self.claims(claims, key_id)
    }

    /// What is required of claims, whoever has vouched for them.
    #[inline]
    pub(super) fn claims<C: DeserializeOwned>(
        mut self,
        claims: Box<Claims>,
        key_id: Option<Arc<str>>,
    ) -> ControlFlow<(), Option<Checked<C>>> {
        self.no_id_token(&claims)?;
        self.required(&claims)?;
        self.issuer(&claims)?;
        self.audience(&claims)?;
        self.times(&claims)?;
        self.confirmation(&claims)?;
        let Some(own) = self.own::<C>(&claims)? else { return ControlFlow::Continue(None) };
        ControlFlow::Continue(Some(Checked::new(claims, own, key_id)))
    }

    pub(super) fn note(&mut self, check: Check, held: bool, detail: impl FnOnce() -> Detail) -> ControlFlow<()> {
        self.audit.note(check, held, detail)
    }

    pub(super) const fn reading(&self) -> &'a Reading {
        &self.verifier.expectations.reading
    }

    fn usual_header(&self, segment: &[u8]) -> Option<Header<'a>> {
        let verifier = self.verifier;
        let index = verifier.usual_headers.iter().position(|usual| usual.as_bytes() == segment)?;
        Some(Header::known(&verifier.keys.keys()[index], verifier.expectations.kind))
    }

    /// What could be read; what could not is noted and ends the run.
    fn readable<T>(&mut self, check: Check, read: Result<T, Detail>) -> ControlFlow<(), Option<T>> {
        match read {
            Ok(value) => ControlFlow::Continue(Some(value)),
            Err(detail) => {
                self.audit.note(check, false, || detail)?;
                ControlFlow::Continue(None)
            }
        }
    }

    fn header(&mut self, header: &Header<'_>) -> ControlFlow<()> {
        self.audit.note(Check::Critical, header.crit.is_empty(), || {
            let names = quoted_list(header.crit.iter().map(String::as_str));
            Detail::new("no critical extension", if header.crit.is_empty() { "none".to_owned() } else { names })
        })?;
        let kind = self.verifier.expectations.kind;
        let (typ, untyped) = (header.typ.as_deref(), self.verifier.expectations.untyped);
        let held = kind.agrees_with(typ) || untyped && Kind::Plain.agrees_with(typ);
        self.audit.note(Check::Kind, held, || {
            let or_none = if untyped { ", \"JWT\" or none" } else { "" };
            Detail::new(
                format!("typ {:?}{or_none} ({kind})", kind.typ()),
                header.typ.as_deref().map_or("no typ".to_owned(), quoted),
            )
        })
    }

    /// Says which key signed.
    fn signature(&mut self, header: &Header<'_>, parts: &Compact<'_>) -> ControlFlow<(), Option<Arc<str>>> {
        let (verifier, kid) = (self.verifier, header.kid.as_deref());
        let allowed = &verifier.algorithms;
        let named = Algorithm::from_name(&header.alg).filter(|algorithm| allowed.contains(algorithm));
        let candidates = named.map(|algorithm| verifier.keys.candidates(kid, algorithm));
        let held = !matches!(candidates, None | Some(Err(CandidateError::OtherAlgorithm(_))));
        self.audit.note(Check::Algorithm, held, || {
            let expected = match &candidates {
                Some(Err(CandidateError::OtherAlgorithm(bound))) => format!("{bound}, which the key is bound to"),
                _ if allowed.is_empty() => "an algorithm that is allowed and has a key: there is none".to_owned(),
                _ => allowed.iter().map(|algorithm| algorithm.name()).collect::<Vec<_>>().join(" or "),
            };
            Detail::new(expected, quoted(&header.alg))
        })?;
        let Some(candidates) = candidates.filter(|_| held) else { return ControlFlow::Continue(None) };
        self.audit.note(Check::Key, candidates.is_ok(), || {
            let keys = verifier.keys.keys();
            let known = match keys.len() {
                0 => "a key to check with".to_owned(),
                _ => format!("a known key: {}", quoted_list(keys.iter().map(|key| key.key_id()))),
            };
            let found = match kid.and_then(|kid| verifier.keys.withdrawn(kid)) {
                Some(state) => format!("{}, which is {state}", kid_of(kid)),
                None if keys.is_empty() => "none set up".to_owned(),
                None => kid_of(kid),
            };
            Detail::new(known, found)
        })?;
        let Ok(candidates) = candidates else { return ControlFlow::Continue(None) };
        let signer = candidates.verify(parts.signing_input, &parts.signature);
        let held = signer.is_some();
        self.audit.note(Check::Signature, held, || {
            let mut found = if held { "one that fits" } else { "one that it did not make over these bytes" }.to_owned();
            let untried = named.map_or(0, |algorithm| verifier.keys.untried(kid, algorithm));
            if !held && untried > 0 {
                let keys = if untried == 1 { "1 more key was" } else { &format!("{untried} more keys were") };
                found.push_str(&format!("; {keys} not tried: give keys and tokens a kid"));
            }
            Detail::new(format!("a signature of the key with {}", header.alg), found)
        })?;
        ControlFlow::Continue(signer.map(VerifyingKey::shared_key_id))
    }

    /// Where `typ` does not tell, what only tokens have that are made for a client does
    /// ([OpenID Connect Core section 2](https://openid.net/specs/openid-connect-core-1_0.html#IDToken)).
    fn no_id_token(&mut self, claims: &Claims) -> ControlFlow<()> {
        if !self.verifier.expectations.untyped {
            return ControlFlow::Continue(());
        }
        let found = ["nonce", "at_hash", "c_hash"].into_iter().find(|name| claims.own(name).is_some());
        let Some(found) = found else { return ControlFlow::Continue(()) };
        self.audit.note(Check::Kind, false, || {
            let what = "an access token, without nonce, at_hash and c_hash";
            Detail::new(what, format!("{found}, as a token has that is made for a client"))
        })
    }

    fn required(&mut self, claims: &Claims) -> ControlFlow<()> {
        let (registered, own) = &self.verifier.required;
        let held = claims.registered_bits() & registered == *registered && own.iter().all(|name| claims.has(name));
        self.audit.note(Check::Required, held, || {
            let required = &self.verifier.expectations.required;
            let missing: Vec<_> = required.iter().map(String::as_str).filter(|name| !claims.has(name)).collect();
            let found = match missing.as_slice() {
                [] => "all of them".to_owned(),
                missing => format!("no {}", quoted_list(missing.iter().copied())),
            };
            Detail::new(format!("the claims {}", required.join(", ")), found)
        })
    }

    fn issuer(&mut self, claims: &Claims) -> ControlFlow<()> {
        let Some(expected) = &self.verifier.expectations.issuer else { return ControlFlow::Continue(()) };
        self.audit.note(Check::Issuer, claims.issuer() == Some(expected), || {
            Detail::new(quoted(expected), claims.issuer().map_or("none".to_owned(), quoted))
        })
    }

    fn audience(&mut self, claims: &Claims) -> ControlFlow<()> {
        let found = || quoted_list(claims.audience());
        match &self.verifier.expectations.audience {
            ExpectedAudience::Any => ControlFlow::Continue(()),
            ExpectedAudience::Absent => {
                let held = claims.audience.is_none();
                self.audit.note(Check::Audience, held, || Detail::new("no audience, since none is set up", found()))
            }
            ExpectedAudience::OneOf(accepted) => {
                let held = claims.audience().any(|audience| accepted.iter().any(|accepted| accepted == audience));
                let expected = || accepted.iter().map(|audience| quoted(audience)).collect::<Vec<_>>().join(" or ");
                self.audit.note(Check::Audience, held, || Detail::new(expected(), found()))
            }
        }
    }

    /// Refused from `exp` on and until just before `nbf`, each moved by what is allowed for in the token's favour.
    fn times(&mut self, claims: &Claims) -> ControlFlow<()> {
        let (now, Expectations { skew, issuer_ahead, .. }) = (self.now, &self.verifier.expectations);
        let (skew, ahead) = (*skew, *skew.max(issuer_ahead));
        if let Some(exp) = claims.expires_at {
            self.audit.note(Check::Expiration, now < exp.after(skew), || {
                Detail::new(format!("a time after now, {now}"), format!("{exp} ({})", relative(exp, now)))
            })?;
        }
        let beginnings = [
            (Check::NotBefore, claims.not_before),
            (Check::IssuedAt, claims.issued_at),
            (Check::AuthenticatedAt, claims.authenticated_at),
        ];
        let latest = now.after(ahead);
        for (check, begin) in beginnings {
            let Some(begin) = begin else { continue };
            self.audit.note(check, begin <= latest, || {
                Detail::new(format!("a time no later than now, {now}"), format!("{begin} ({})", relative(begin, now)))
            })?;
        }
        ControlFlow::Continue(())
    }

    /// What is proven has to be all that the token is bound to: what is not understood here is not proven.
    fn confirmation(&mut self, claims: &Claims) -> ControlFlow<()> {
        let Some(bound) = &claims.confirmation else { return ControlFlow::Continue(()) };
        let thumbprint = if bound.len() == 1 { bound.get("jkt").and_then(Value::as_str) } else { None };
        let held = matches!((self.proven, thumbprint), (Proven::Key(proven), Some(wanted)) if proven == wanted);
        let proven = self.proven;
        self.audit.note(Check::Confirmation, held, || {
            let expected = match thumbprint {
                Some(thumbprint) => format!("a proof of the key {} that the token is bound to", quoted(thumbprint)),
                None => format!("a proof of {}", quoted_list(bound.keys().map(String::as_str))),
            };
            let found = match proven {
                Proven::Nothing => "none".to_owned(),
                Proven::Key(key) => format!("one of the key {}", quoted(key)),
            };
            Detail::new(expected, found)
        })
    }

    fn own<C: DeserializeOwned>(&mut self, claims: &Claims) -> ControlFlow<(), Option<C>> {
        let fit = claims.own.fit::<C>(&claims.page);
        self.audit.note(Check::OwnClaims, fit.is_ok(), || match &fit {
            Ok(_) => Detail::new("claims that fit the app's type", "they fit"),
            Err(misfit) => Detail::new(
                "claims that fit the app's type",
                match misfit.member.as_str() {
                    "" => misfit.problem.clone(),
                    member => format!("{} in {}", misfit.problem, quoted(member)),
                },
            ),
        })?;
        ControlFlow::Continue(fit.ok())
    }
}

fn kid_of(kid: Option<&str>) -> String {
    kid.map_or_else(|| "no kid".to_owned(), |kid| format!("kid {}", quoted(kid)))
}

/// How far a time is from now, as people say it.
fn relative(time: Timestamp, now: Timestamp) -> String {
    let span = spoken(time.distance(now));
    if time > now { format!("in {span}") } else { format!("{span} ago") }
}
