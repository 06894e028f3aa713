//! Boolean formulas over numbered atoms, with `not` at the atoms only.

/// A formula.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub(in crate::plan) enum Formula {
    /// True or false whatever the atoms are.
    Always(bool),
    /// The atom is as said.
    Is(usize, bool),
    /// Each part is true.
    All(Vec<Formula>),
    /// One part at least is true.
    Any(Vec<Formula>),
}

impl Formula {
    /// Each of these.
    pub(in crate::plan) fn all(parts: impl IntoIterator<Item = Self>) -> Self {
        Self::list(parts, true)
    }

    /// One of these.
    pub(in crate::plan) fn any(parts: impl IntoIterator<Item = Self>) -> Self {
        Self::list(parts, false)
    }

    /// A list with constants taken out and lists of its own kind put in; `neutral` is what changes nothing in it.
    fn list(parts: impl IntoIterator<Item = Self>, neutral: bool) -> Self {
        let mut kept = Vec::new();
        for part in parts {
            match part {
                Self::Always(value) if value == neutral => {}
                Self::Always(decisive) => return Self::Always(decisive),
                Self::All(inner) if neutral => kept.extend(inner),
                Self::Any(inner) if !neutral => kept.extend(inner),
                other => kept.push(other),
            }
        }
        match kept.len() {
            0 => Self::Always(neutral),
            1 => kept.swap_remove(0),
            _ if neutral => Self::All(kept),
            _ => Self::Any(kept),
        }
    }

    /// What is left once some atoms are known.
    pub(super) fn given(&self, known: &impl Fn(usize) -> Option<bool>) -> Self {
        match self {
            Self::Always(_) => self.clone(),
            Self::Is(atom, wanted) => known(*atom).map_or_else(|| self.clone(), |value| Self::Always(value == *wanted)),
            Self::All(parts) => Self::all(parts.iter().map(|part| part.given(known))),
            Self::Any(parts) => Self::any(parts.iter().map(|part| part.given(known))),
        }
    }

    /// The atoms in it, in the order written.
    pub(super) fn atoms(&self, visit: &mut impl FnMut(usize)) {
        match self {
            Self::Always(_) => {}
            Self::Is(atom, _) => visit(*atom),
            Self::All(parts) | Self::Any(parts) => parts.iter().for_each(|part| part.atoms(visit)),
        }
    }
}
