//! The claims of a token as they are written.

use serde::Serialize;

use crate::encoding::json::Members;
use crate::time::Timestamp;

/// Whom a token is for: one as a text, several as a list.
#[derive(Clone, Copy)]
pub(crate) enum Audience<'a> {
    One(&'a str),
    Several(&'a [String]),
}

impl<'a> Audience<'a> {
    pub(super) fn of(audiences: &'a [String]) -> Self {
        if let [one] = audiences { Self::One(one) } else { Self::Several(audiences) }
    }

    pub(super) fn iter(self) -> impl Iterator<Item = &'a str> {
        let (one, several): (Option<&str>, &[String]) = match self {
            Self::One(one) => (Some(one), &[]),
            Self::Several(several) => (None, several),
        };
        one.into_iter().chain(several.iter().map(String::as_str))
    }
}

/// The claims of a token in the order written; what is empty is left out.
pub(crate) struct ClaimsToWrite<'a, C> {
    pub(crate) iss: &'a str,
    pub(crate) aud: Audience<'a>,
    pub(crate) iat: i64,
    pub(crate) nbf: Option<i64>,
    pub(crate) exp: Option<i64>,
    pub(crate) sub: Option<&'a str>,
    pub(crate) client_id: Option<&'a str>,
    pub(crate) jti: &'a str,
    pub(crate) scope: &'a str,
    pub(crate) roles: &'a [String],
    pub(crate) sid: Option<&'a str>,
    pub(crate) auth_time: Option<i64>,
    pub(crate) session_at: Option<i64>,
    pub(crate) acr: Option<&'a str>,
    /// The thumbprint of the key that the token is bound to, in `cnf` ([RFC 9449 section 6.1](https://www.rfc-editor.org/rfc/rfc9449#section-6.1)).
    pub(crate) jkt: Option<&'a str>,
    /// An object whose members have other names.
    pub(crate) own: C,
}

impl<'a, C> ClaimsToWrite<'a, C> {
    /// What every token says; the rest is said by whoever makes one.
    pub(crate) const fn of(iss: &'a str, aud: Audience<'a>, jti: &'a str, issued_at: Timestamp, own: C) -> Self {
        Self {
            iss,
            aud,
            iat: issued_at.as_secs(),
            nbf: None,
            exp: None,
            sub: None,
            client_id: None,
            jti,
            scope: "",
            roles: &[],
            sid: None,
            auth_time: None,
            session_at: None,
            acr: None,
            jkt: None,
            own,
        }
    }
}

impl<C: Serialize> ClaimsToWrite<'_, C> {
    /// As JSON, written onto bytes.
    ///
    /// # Errors
    /// If the own claims cannot be written, or are no object.
    pub(super) fn write(&self, bytes: &mut Vec<u8>) -> Result<(), serde_json::Error> {
        let mut members = Members::begin(bytes, "iss", self.iss);
        match self.aud {
            Audience::One(one) => members.text("aud", one),
            Audience::Several(several) => members.texts("aud", several),
        }
        members.number("iat", self.iat);
        members.number("nbf", self.nbf);
        members.number("exp", self.exp);
        members.text("sub", self.sub);
        members.text("client_id", self.client_id);
        members.text("jti", self.jti);
        members.text("scope", (!self.scope.is_empty()).then_some(self.scope));
        if !self.roles.is_empty() {
            members.texts("roles", self.roles);
        }
        members.text("sid", self.sid);
        members.number("auth_time", self.auth_time);
        members.number("session_at", self.session_at);
        members.text("acr", self.acr);
        if let Some(jkt) = self.jkt {
            members.object("cnf", "jkt", jkt);
        }
        members.end_with(&self.own)
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;
    use serde_json::{Map, Value};

    use super::*;

    /// The same as serde writes it.
    #[derive(Serialize)]
    struct ByDerive<'a> {
        iss: &'a str,
        aud: Value,
        iat: i64,
        #[serde(skip_serializing_if = "Option::is_none")]
        nbf: Option<i64>,
        #[serde(skip_serializing_if = "Option::is_none")]
        exp: Option<i64>,
        #[serde(skip_serializing_if = "Option::is_none")]
        sub: Option<&'a str>,
        #[serde(skip_serializing_if = "Option::is_none")]
        client_id: Option<&'a str>,
        jti: &'a str,
        #[serde(skip_serializing_if = "str::is_empty")]
        scope: &'a str,
        #[serde(skip_serializing_if = "<[String]>::is_empty")]
        roles: &'a [String],
        #[serde(skip_serializing_if = "Option::is_none")]
        sid: Option<&'a str>,
        #[serde(skip_serializing_if = "Option::is_none")]
        auth_time: Option<i64>,
        #[serde(skip_serializing_if = "Option::is_none")]
        session_at: Option<i64>,
        #[serde(skip_serializing_if = "Option::is_none")]
        acr: Option<&'a str>,
        #[serde(skip_serializing_if = "Option::is_none")]
        cnf: Option<Value>,
        #[serde(flatten)]
        own: &'a Map<String, Value>,
    }

    /// Empty ones, those with every character that is escaped, and long ones.
    fn text() -> impl Strategy<Value = String> {
        prop_oneof!["", "[a-z:/.]{1,40}", any::<String>(), "[\\x00-\\x20\"\\\\/\\x7f]{0,6}", "\\PC{200,300}"]
    }

    fn own() -> impl Strategy<Value = Map<String, Value>> {
        let value = prop_oneof![
            Just(Value::Null),
            any::<i64>().prop_map(Value::from),
            text().prop_map(Value::from),
            proptest::collection::vec(text(), 0..3).prop_map(Value::from),
        ];
        proptest::collection::btree_map("own_[a-z\"]{0,3}", value, 0..3)
            .prop_map(|members| members.into_iter().collect())
    }

    proptest! {
        #![proptest_config(ProptestConfig { failure_persistence: None, ..ProptestConfig::default() })]

        /// Refresh tokens are made again, byte for byte, also by the next version: what is written does not change.
        /// Own claims are written by serde either way; floats and objects among them are left out.
        #[test]
        fn claims_are_written_as_serde_writes_them(
            [iss, jti, scope] in [text(), text(), text()],
            [sub, client_id, sid, acr, jkt] in proptest::array::uniform5(proptest::option::of(text())),
            [nbf, exp, auth_time, session_at] in proptest::array::uniform4(proptest::option::of(any::<i64>())),
            iat: i64,
            [roles, audiences] in proptest::array::uniform2(proptest::collection::vec(text(), 0..3)),
            own in own(),
        ) {
            let by_hand = ClaimsToWrite {
                nbf,
                exp,
                sub: sub.as_deref(),
                client_id: client_id.as_deref(),
                scope: &scope,
                roles: &roles,
                sid: sid.as_deref(),
                auth_time,
                session_at,
                acr: acr.as_deref(),
                jkt: jkt.as_deref(),
                ..ClaimsToWrite::of(&iss, Audience::of(&audiences), &jti, Timestamp::from_secs(0), &own)
            };
            let by_hand = ClaimsToWrite { iat, ..by_hand };
            let by_derive = ByDerive {
                iss: by_hand.iss,
                aud: if let [one] = &audiences[..] { Value::from(&**one) } else { Value::from(audiences.clone()) },
                iat: by_hand.iat,
                nbf: by_hand.nbf,
                exp: by_hand.exp,
                sub: by_hand.sub,
                client_id: by_hand.client_id,
                jti: by_hand.jti,
                scope: by_hand.scope,
                roles: by_hand.roles,
                sid: by_hand.sid,
                auth_time: by_hand.auth_time,
                session_at: by_hand.session_at,
                acr: by_hand.acr,
                cnf: by_hand.jkt.map(|jkt| serde_json::json!({ "jkt": jkt })),
                own: by_hand.own,
            };
            let mut bytes = b"before".to_vec();
            by_hand.write(&mut bytes).expect("an object");
            prop_assert_eq!(String::from_utf8(bytes).expect("text"), format!("before{}", serde_json::to_string(&by_derive).expect("JSON")));
        }
    }

    #[test]
    fn own_claims_that_are_no_object_are_refused() {
        for own in [Value::Null, Value::from(7), Value::from("{}"), Value::from(vec![1])] {
            let claims = ClaimsToWrite::of("a", Audience::One("b"), "c", Timestamp::from_secs(0), &own);
            assert!(claims.write(&mut Vec::new()).is_err(), "{own}");
        }
    }
}
