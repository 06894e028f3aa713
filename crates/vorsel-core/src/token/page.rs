//! Texts of a token that stay where they were decoded, so that reading a claim needs no memory of its own.

use std::cell::RefCell;

/// The place of a text in a [`Page`].
#[derive(Clone, Copy, Debug, PartialEq)]
pub(crate) struct Excerpt {
    start: u32,
    end: u32,
}

impl Excerpt {
    pub(crate) const fn length(self) -> u32 {
        self.end - self.start
    }
}

/// A payload, and behind it the texts that were written with escapes and so stand nowhere in it as they are read.
#[derive(Clone, Debug, Default, PartialEq)]
pub(crate) struct Page(String);

impl Page {
    pub(crate) const fn empty() -> Self {
        Self(String::new())
    }

    pub(crate) fn text(&self, span: Excerpt) -> &str {
        self.0.get(span.start as usize..span.end as usize).unwrap_or_default()
    }

    /// Adds a text that does not stand in the payload.
    pub(crate) fn add(&mut self, text: &str) -> Excerpt {
        let start = self.0.len();
        self.0.push_str(text);
        Excerpt { start: place(start), end: place(self.0.len()) }
    }

    /// Bytes of memory held.
    pub(crate) fn memory(&self) -> usize {
        self.0.capacity()
    }
}

/// A token is never so large that its places need more than 32 bits; if it were, they would lead nowhere.
fn place(at: usize) -> u32 {
    u32::try_from(at).unwrap_or(u32::MAX)
}

/// Marks the places while the payload is being read.
pub(crate) struct Marker {
    address: usize,
    length: usize,
    aside: RefCell<String>,
}

impl Marker {
    pub(crate) fn over(payload: &str) -> Self {
        Self { address: payload.as_ptr().addr(), length: payload.len(), aside: RefCell::default() }
    }

    /// The place of a text that was read from the payload: where it stands, or else aside.
    pub(crate) fn mark(&self, text: &str) -> Excerpt {
        let offset = text.as_ptr().addr().wrapping_sub(self.address);
        let stands_there = offset <= self.length && text.len() <= self.length - offset;
        let start = if stands_there { offset } else { self.set_aside(text) };
        Excerpt { start: place(start), end: place(start + text.len()) }
    }

    #[cold]
    fn set_aside(&self, text: &str) -> usize {
        let mut aside = self.aside.borrow_mut();
        let start = self.length + aside.len();
        aside.push_str(text);
        start
    }

    /// The page that the places lead into.
    pub(crate) fn finish(self, mut payload: String) -> Page {
        payload.push_str(&self.aside.into_inner());
        Page(payload)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn texts_are_found_again_whether_they_stand_there_or_not() {
        let payload = "a dome on a hill".to_owned();
        let marker = Marker::over(&payload);
        let spans = [&payload[2..6], "étoile", &payload[16..], "night"].map(|text| marker.mark(text));
        let page = marker.finish(payload);
        assert_eq!(spans.map(|span| page.text(span)), ["dome", "étoile", "", "night"]);
    }
}
