//! What the observatory puts into its tokens.

use serde::{Deserialize, Serialize};

/// The observatory's own claims.
#[derive(Clone, Debug, Default, Serialize, Deserialize)]
pub(crate) struct Staff {
    /// How far the training went; 0 for none.
    #[serde(default)]
    pub(crate) training: u8,
    /// The part of the night somebody works in.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub(crate) shift: Option<Shift>,
    /// Whether the address was confirmed.
    #[serde(default)]
    pub(crate) confirmed: bool,
    /// What an instrument measures with; people have none.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub(crate) instruments: Vec<String>,
}

/// A part of the night.
#[derive(Clone, Copy, Debug, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub(crate) enum Shift {
    Dusk,
    Night,
    Dawn,
}
