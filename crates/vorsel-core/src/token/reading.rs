//! Where a token keeps its subject, client, roles and scopes.

use std::collections::BTreeMap;

use serde_json::Value;

use super::claims::{Claims, Excerpts, registered_bit};
use super::page::Excerpt;
use super::scope::is_scope;
use crate::encoding::json;
use crate::finding::{Detail, quoted};

/// Where the tokens of an issuer keep subject, client, roles and scopes, and how its names become ours. The default is
/// [RFC 9068 section 2.2](https://www.rfc-editor.org/rfc/rfc9068#section-2.2)'s: `sub`, `client_id`, `roles` and `scope`.
///
/// ```
/// use vorsel_core::Reading;
///
/// // Roles in {"ground": {"crew": ["chief", "guest"]}}, of which one is ours.
/// let reading = Reading::default().roles_in(&["ground", "crew"])?.role("chief", "director");
/// # Ok::<(), vorsel_core::ReadingError>(())
/// ```
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Reading {
    /// Each by the names on the way to it; nothing for the usual place.
    subject: Option<Vec<String>>,
    client: Option<Vec<String>>,
    roles: Option<Vec<String>>,
    scopes: Option<Vec<String>>,
    /// Ours by theirs; empty if theirs are ours.
    role_names: BTreeMap<String, String>,
    scope_names: BTreeMap<String, String>,
    /// Whether names that are not in the tables are left aside.
    drops_others: bool,
    /// Whether `scope` may be a list, and `roles` a text.
    either: bool,
}

/// A place where no text or list can be.
///
/// ```
/// let error = vorsel_core::Reading::default().roles_in(&[]).unwrap_err();
/// assert_eq!(error.to_string(), "expected the names on the way to a claim with a text or a list, but found []");
/// ```
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("expected the names on the way to a claim with a text or a list, but found {found:?}")]
pub struct ReadingError {
    /// The names.
    pub found: Vec<String>,
}

/// Registered claims that are no text and no list of texts.
const OTHERS: [&str; 6] = ["exp", "nbf", "iat", "auth_time", "session_at", "cnf"];

impl Reading {
    /// The role of whoever has one that was [dropped](Self::drop_others).
    pub const OTHER_ROLE: &str = "(other)";

    pub(super) const fn takes_either(&self) -> bool {
        self.either
    }

    /// The subject is in the claim behind these names.
    ///
    /// # Errors
    /// If there is no name, or the claim is one that is no text.
    pub fn subject_in(self, names: &[&str]) -> Result<Self, ReadingError> {
        Ok(Self { subject: Some(place(names)?), ..self })
    }

    /// The client is in the claim behind these names.
    ///
    /// # Errors
    /// If there is no name, or the claim is one that is no text.
    pub fn client_in(self, names: &[&str]) -> Result<Self, ReadingError> {
        Ok(Self { client: Some(place(names)?), ..self })
    }

    /// The roles are in the claim behind these names: a list of texts, or a text with spaces between them.
    ///
    /// # Errors
    /// If there is no name, or the claim is one that is neither.
    pub fn roles_in(self, names: &[&str]) -> Result<Self, ReadingError> {
        Ok(Self { roles: Some(place(names)?), ..self })
    }

    /// The scopes are in the claim behind these names: a list of texts, or a text with spaces between them.
    ///
    /// # Errors
    /// If there is no name, or the claim is one that is neither.
    pub fn scopes_in(self, names: &[&str]) -> Result<Self, ReadingError> {
        Ok(Self { scopes: Some(place(names)?), ..self })
    }

    /// `scope` may be a list as well, and `roles` a text with spaces between them.
    #[must_use]
    pub fn text_or_list(self) -> Self {
        Self { either: true, ..self }
    }

    /// What they call `theirs` is our role `ours`. Once one role is named so, a token with one that is not is refused, unless
    /// such roles are [dropped](Self::drop_others).
    #[must_use]
    pub fn role(mut self, theirs: impl Into<String>, ours: impl Into<String>) -> Self {
        self.role_names.insert(theirs.into(), ours.into());
        self
    }

    /// Leaves roles and scopes aside that are not named here, once others are. Whoever has such a role has [`OTHER_ROLE`](Self::OTHER_ROLE)
    /// in its place, which no plan declares: under a `not` it counts as the role that is asked for, since nobody knows what it is.
    #[must_use]
    pub fn drop_others(self) -> Self {
        Self { drops_others: true, ..self }
    }

    /// What they call `theirs` is our scope `ours`. Once one scope is named so, a token with one that is not is refused, unless
    /// such scopes are [dropped](Self::drop_others).
    #[must_use]
    pub fn scope(mut self, theirs: impl Into<String>, ours: impl Into<String>) -> Self {
        self.scope_names.insert(theirs.into(), ours.into());
        self
    }

    /// Puts subject, client, roles and scopes from where they are kept to where they are looked for.
    pub(super) fn apply(&self, claims: &mut Claims) -> Result<(), Detail> {
        if let Some(place) = &self.subject {
            claims.subject = self.text(claims, place)?;
        }
        if let Some(place) = &self.client {
            claims.client_id = self.text(claims, place)?;
        }
        if self.roles.is_some() || !self.role_names.is_empty() {
            let others = self.drops_others.then_some(Some(Self::OTHER_ROLE));
            let roles = ours(claims, self.roles.as_deref(), "roles", &self.role_names, others)?;
            claims.roles = roles.map(|roles| roles.iter().map(|role| claims.page.add(role)).collect::<Excerpts>());
        }
        if self.scopes.is_some() || !self.scope_names.is_empty() {
            let others = self.drops_others.then_some(None);
            let scopes = ours(claims, self.scopes.as_deref(), "scope", &self.scope_names, others)?;
            if let Some(bad) = scopes.iter().flatten().find(|scope| !is_scope(scope)) {
                let place = self.scopes.clone().unwrap_or_default();
                return Err(wrong(&place, "scopes of visible ASCII", &quoted(bad)));
            }
            claims.scopes = scopes.map(|scopes| claims.page.add(&scopes.join(" ")));
        }
        Ok(())
    }

    fn text(&self, claims: &mut Claims, place: &[String]) -> Result<Option<Excerpt>, Detail> {
        match texts_in(claims, place)?.as_deref() {
            None | Some([]) => Ok(None),
            Some([text]) => Ok(Some(claims.page.add(text))),
            Some(several) => Err(wrong(place, "one text", &format!("{} of them", several.len()))),
        }
    }
}

/// The names that are kept at `place`, or else in the claim `usual`, as ours. Those that are not in the table become what `others`
/// says, if it says something.
fn ours(
    claims: &Claims,
    place: Option<&[String]>,
    usual: &str,
    names: &BTreeMap<String, String>,
    others: Option<Option<&str>>,
) -> Result<Option<Vec<String>>, Detail> {
    let theirs = match place {
        Some(place) => texts_in(claims, place)?,
        None => texts_in(claims, &[usual.to_owned()])?,
    };
    if names.is_empty() {
        return Ok(theirs);
    }
    let Some(theirs) = theirs else { return Ok(None) };
    let mut ours: Vec<String> = Vec::with_capacity(theirs.len());
    for name in theirs {
        let known = match (names.get(&name), others) {
            (Some(known), _) => Some(known.as_str()),
            (None, Some(instead)) => instead,
            (None, None) => {
                let usual = [usual.to_owned()];
                return Err(wrong(place.unwrap_or(&usual), "names that are known here", &quoted(&name)));
            }
        };
        ours.extend(known.filter(|known| !ours.iter().any(|there| there == known)).map(str::to_owned));
    }
    Ok(Some(ours))
}

fn place(names: &[&str]) -> Result<Vec<String>, ReadingError> {
    let owned = || names.iter().map(|name| (*name).to_owned()).collect();
    let is_right = match names {
        [] => false,
        [name] => !name.is_empty() && !OTHERS.contains(name),
        [first, rest @ ..] => registered_bit(first) == 0 && !first.is_empty() && !rest.contains(&""),
    };
    if is_right { Ok(owned()) } else { Err(ReadingError { found: owned() }) }
}

fn wrong(place: &[String], expected: &str, found: &str) -> Detail {
    Detail::new(format!("{expected} in {}", quoted(&place.join("."))), found)
}

/// The texts of a claim: those of a list, or those of a text between its spaces.
fn texts_in(claims: &Claims, place: &[String]) -> Result<Option<Vec<String>>, Detail> {
    let registered = |texts: Option<&str>| Ok(texts.map(|text| vec![text.to_owned()]));
    let parts = |text: &str| text.split(' ').filter(|part| !part.is_empty()).map(str::to_owned).collect();
    let all = |texts: Vec<&str>| Ok((!texts.is_empty()).then(|| texts.into_iter().map(str::to_owned).collect()));
    let (first, rest) = (place[0].as_str(), &place[1..]);
    match first {
        "iss" => return registered(claims.issuer()),
        "sub" => return registered(claims.subject()),
        "jti" => return registered(claims.id()),
        "client_id" => return registered(claims.client_id()),
        "sid" => return registered(claims.session_id()),
        "acr" => return registered(claims.acr()),
        "aud" => return all(claims.audience().collect()),
        "roles" => return all(claims.roles().collect()),
        "scope" => return all(claims.scopes().collect()),
        _ => {}
    }
    let claim = claims.own(first).map(|claim| rest.iter().try_fold(claim, |value, name| value.get(name)));
    match claim.flatten() {
        None => Ok(None),
        Some(Value::String(text)) => Ok(Some(parts(text))),
        Some(Value::Array(items)) => {
            let text = |item: &Value| {
                let found = || format!("{} in it", json::type_name(item));
                item.as_str().map(str::to_owned).ok_or_else(|| wrong(place, "a list of texts", &found()))
            };
            items.iter().map(text).collect::<Result<_, _>>().map(Some)
        }
        Some(other) => Err(wrong(place, "a text or a list of texts", json::type_name(other))),
    }
}

#[cfg(test)]
mod tests {
    use super::super::payload;
    use super::*;

    fn seen(reading: &Reading, text: &str) -> String {
        match payload::read(text.into(), reading) {
            Err(detail) => format!("expected {}, but found {}", detail.expected, detail.found),
            Ok(claims) => format!(
                "{} by {}: {} / {}",
                claims.subject().unwrap_or("-"),
                claims.client_id().unwrap_or("-"),
                claims.roles().collect::<Vec<_>>().join(","),
                claims.scopes().collect::<Vec<_>>().join(","),
            ),
        }
    }

    #[test]
    fn roles_scopes_and_names_are_read_where_the_issuer_keeps_them() {
        let place = |names: &[&str]| Reading::default().roles_in(names).expect("a place");
        let usual = r#"{"sub":"a","client_id":"c","roles":["r"],"scope":"s t"}"#;
        for (reading, text, expected) in [
            (Reading::default(), usual, "a by c: r / s,t"),
            (place(&["groups"]), usual, "a by c:  / s,t"),
            (place(&["groups"]), r#"{"groups":["x","y"],"roles":["director"]}"#, "- by -: x,y / "),
            (place(&["groups"]), r#"{"groups":"x  y"}"#, "- by -: x,y / "),
            (place(&["groups"]), r#"{"groups":[]}"#, "- by -:  / "),
            (place(&["g", "h.i"]), r#"{"g":{"h.i":["x"]}}"#, "- by -: x / "),
            (place(&["g", "h"]), r#"{"g":["h"]}"#, "- by -:  / "),
            (
                place(&["groups"]),
                r#"{"groups":["x",1]}"#,
                "expected a list of texts in \"groups\", but found a number in it",
            ),
            (
                place(&["groups"]),
                r#"{"groups":true}"#,
                "expected a text or a list of texts in \"groups\", but found a boolean",
            ),
            (place(&["scope"]), usual, "a by c: s,t / s,t"),
            (Reading::default().role("r", "observer").role("q", "director"), usual, "a by c: observer / s,t"),
            (
                Reading::default().role("q", "director"),
                usual,
                "expected names that are known here in \"roles\", but found \"r\"",
            ),
            (Reading::default().role("q", "director").drop_others(), usual, "a by c: (other) / s,t"),
            (Reading::default().drop_others(), usual, "a by c: r / s,t"),
            (
                Reading::default().role("x", "director").role("y", "director").drop_others(),
                r#"{"roles":["p","x","q","y"]}"#,
                "- by -: (other),director / ",
            ),
            (
                Reading::default().scope("t", "logs:read"),
                usual,
                "expected names that are known here in \"scope\", but found \"s\"",
            ),
            (Reading::default().scope("t", "logs:read").drop_others(), usual, "a by c: r / logs:read"),
            (Reading::default().text_or_list(), r#"{"scope":["s","t"],"roles":"r  q"}"#, "- by -: r,q / s,t"),
            (Reading::default().text_or_list(), usual, "a by c: r / s,t"),
            (Reading::default().text_or_list(), r#"{"scope":[],"roles":""}"#, "- by -:  / "),
            (
                place(&["https://lab.skarnhill.test/roles"]).role("r", "operator"),
                r#"{"https://lab.skarnhill.test/roles":["r"]}"#,
                "- by -: operator / ",
            ),
            (
                Reading::default().scopes_in(&["scp"]).expect("a place"),
                r#"{"scp":["s","t"],"scope":"u"}"#,
                "- by -:  / s,t",
            ),
            (
                Reading::default().scopes_in(&["scp"]).expect("a place"),
                r#"{"scp":["s t"]}"#,
                "expected scopes of visible ASCII in \"scp\", but found \"s t\"",
            ),
            (
                Reading::default().client_in(&["azp"]).and_then(|it| it.subject_in(&["uid"])).expect("places"),
                r#"{"sub":"a","client_id":"c","azp":"d","uid":"b"}"#,
                "b by d:  / ",
            ),
            (
                Reading::default().client_in(&["azp"]).expect("a place"),
                r#"{"client_id":"c","azp":["d","e"]}"#,
                "expected one text in \"azp\", but found 2 of them",
            ),
        ] {
            assert_eq!(seen(&reading, text), expected, "{reading:?} {text}");
        }
        for names in [&[][..], &[""], &["exp"], &["cnf"], &["cnf", "jkt"], &["roles", "x"], &["a", ""]] {
            assert!(Reading::default().roles_in(names).is_err(), "{names:?}");
        }
    }
}
