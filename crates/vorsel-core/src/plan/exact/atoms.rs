//! What rules ask of a caller and a path, as variables and as atoms over them.

use std::collections::BTreeMap;

use serde_json::Value;

use crate::credential::Credential;
use crate::rule::Comparison;

/// Something about a caller or a path that rules ask for.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub(in crate::plan) enum Thing {
    /// Whether the caller has a role.
    Role(String),
    /// Whether the token grants a scope.
    Scope(String),
    /// What a predicate of the app's answers.
    Predicate(String),
    /// Which credentials the request came with: the bits of their places in [`Credential::ALL`].
    Credentials,
    /// How many seconds ago the caller authenticated.
    SignedInAgo,
    /// `sub`.
    Subject,
    /// Whether the subject is one of our own people.
    IsOwnPerson,
    /// `client_id`.
    Client,
    /// The client whose API key came along.
    KeyClient,
    /// `iss`.
    Issuer,
    /// `acr`.
    Acr,
    /// A claim that is no list and no object.
    Claim(Vec<String>),
    /// Whether a claim is a list that holds a value, written as JSON.
    ListHolds(Vec<String>, String),
    /// A variable part of the path, counted from the front.
    Segment {
        /// Its place.
        part: usize,
        /// Whether it may be empty.
        may_be_empty: bool,
    },
    /// A path parameter of a rule that is not looked at together with a route.
    Parameter(String),
}

/// A value as an atom sees it.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub(super) enum Term {
    Literal(Value),
    Variable(usize),
    /// A text put together; missing if a part of it is.
    Joined(Vec<Piece>),
    /// What no caller has.
    Nothing,
}

#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub(in crate::plan) enum Piece {
    Text(String),
    Variable {
        /// In the shape of a path the number of the variable part; in an atom the number of the variable.
        number: usize,
        /// Whether it may be empty.
        may_be_empty: bool,
    },
}

#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub(super) enum Atom {
    /// The variable is true.
    Flag(usize),
    /// The credentials have this one.
    Credential(usize, Credential),
    /// So many seconds ago at most.
    Within(usize, u64),
    Compare(Term, Comparison, Term),
    OneOf(Term, Vec<Value>),
    /// Not both of them are there: a claim that is a list is not a number as well.
    Apart(usize, usize),
    /// The variable has a value.
    There(usize),
}

/// Where the path parameters of a route come from.
#[derive(Clone, Debug, Default, PartialEq)]
pub(in crate::plan) struct Binding {
    pub(in crate::plan) parameters: BTreeMap<String, Vec<Piece>>,
    /// Whether a parameter is something that can't be decoded, so that the request is refused.
    pub(in crate::plan) is_refused: bool,
}

impl Piece {
    pub(super) fn variable(&self) -> Option<usize> {
        match self {
            Self::Variable { number, .. } => Some(*number),
            Self::Text(_) => None,
        }
    }
}

impl Term {
    pub(super) fn variables(&self) -> Vec<usize> {
        match self {
            Self::Variable(variable) => vec![*variable],
            Self::Joined(pieces) => pieces.iter().filter_map(Piece::variable).collect(),
            Self::Literal(_) | Self::Nothing => Vec::new(),
        }
    }
}

impl Atom {
    pub(super) fn variables(&self) -> Vec<usize> {
        match self {
            Self::Flag(variable)
            | Self::Credential(variable, _)
            | Self::Within(variable, _)
            | Self::There(variable) => vec![*variable],
            Self::Compare(left, _, right) => [left.variables(), right.variables()].concat(),
            Self::OneOf(term, _) => term.variables(),
            Self::Apart(one, other) => vec![*one, *other],
        }
    }
}
