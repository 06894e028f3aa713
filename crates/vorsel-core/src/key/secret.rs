//! Bytes that must not be shown and are overwritten when dropped.

use std::fmt;

use aws_lc_rs::constant_time;
use zeroize::{Zeroize, ZeroizeOnDrop};

/// Secret bytes. `Debug` shows their length only, equality takes the same time wherever they differ, and dropping
/// them overwrites the memory.
///
/// ```
/// let secret = vorsel_core::Secret::new(vec![7; 32]);
/// assert_eq!(format!("{secret:?}"), "Secret(32 bytes)");
/// ```
#[derive(Clone)]
pub struct Secret(Vec<u8>);

impl Secret {
    /// Takes the bytes over.
    #[must_use]
    pub const fn new(bytes: Vec<u8>) -> Self {
        Self(bytes)
    }

    /// The bytes themselves. Whoever calls this answers for where they go.
    #[must_use]
    pub fn reveal(&self) -> &[u8] {
        &self.0
    }

    /// Whether these are the bytes, in the same time wherever they differ.
    #[must_use]
    pub fn is(&self, bytes: &[u8]) -> bool {
        constant_time::verify_slices_are_equal(&self.0, bytes).is_ok()
    }

    /// How many different byte values there are.
    pub(crate) fn distinct_bytes(&self) -> usize {
        let mut seen = [false; 256];
        self.0.iter().for_each(|byte| seen[usize::from(*byte)] = true);
        seen.iter().filter(|seen| **seen).count()
    }
}

impl Zeroize for Secret {
    fn zeroize(&mut self) {
        self.0.zeroize();
    }
}

impl Drop for Secret {
    fn drop(&mut self) {
        self.zeroize();
    }
}

impl ZeroizeOnDrop for Secret {}

impl<const N: usize> From<[u8; N]> for Secret {
    fn from(mut bytes: [u8; N]) -> Self {
        let secret = Self(bytes.to_vec());
        bytes.zeroize();
        secret
    }
}

impl PartialEq for Secret {
    fn eq(&self, other: &Self) -> bool {
        self.is(&other.0)
    }
}

impl Eq for Secret {}

impl fmt::Debug for Secret {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "Secret({} bytes)", self.0.len())
    }
}
