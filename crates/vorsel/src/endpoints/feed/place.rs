//! Where a client stands in the feed: at what it has acknowledged.

use std::collections::BTreeMap;

use aws_lc_rs::digest::{SHA256, digest};
use vorsel_core::base64url;

use crate::store::{Cursor, SessionStore, StoreError};

/// Nobody knows a place: the beginning.
pub(super) type Place = Option<Cursor>;

const TAG: usize = 12;
/// How often others may acknowledge something at the same moment.
const MOST_RACES: usize = 8;

/// What the stretch between two places is called for a client. It says where it ends, so that nothing has to be remembered of what was
/// sent, and knows where it began.
pub(super) fn event_id(client: &str, begin: &Place, end: &Place) -> String {
    let mut bytes = tag(client, begin).to_vec();
    bytes.extend_from_slice(text(end).as_bytes());
    base64url::encode(bytes)
}

/// The end of the stretch of that name, if it is one.
pub(super) fn end_of(id: &str) -> Option<Place> {
    read(id).map(|(_, end)| end)
}

fn read(id: &str) -> Option<([u8; TAG], Place)> {
    let bytes = base64url::decode(id.as_bytes()).ok()?;
    let (tag, end) = bytes.split_first_chunk()?;
    Some((*tag, place(end)?))
}

fn tag(client: &str, begin: &Place) -> [u8; TAG] {
    let digest = digest(&SHA256, format!("{}\0{client}{}", client.len(), text(begin)).as_bytes());
    digest.as_ref().first_chunk().copied().unwrap_or_default()
}

fn text(place: &Place) -> &str {
    place.as_ref().map_or("", Cursor::as_str)
}

fn place(bytes: &[u8]) -> Option<Place> {
    let text = std::str::from_utf8(bytes).ok()?;
    Some((!text.is_empty()).then(|| Cursor::new(text)))
}

/// A client's place once it has acknowledged these stretches, in whatever order: each counts where the one before it ends.
fn moved(client: &str, mut place: Place, acks: &[String]) -> Place {
    let mut ends: BTreeMap<[u8; TAG], Place> = acks.iter().filter_map(|id| read(id)).collect();
    while let Some(end) = ends.remove(&tag(client, &place)) {
        place = end;
    }
    place
}

/// The place that is kept for a client, once it has acknowledged these stretches.
pub(super) async fn kept(store: &dyn SessionStore, client: &str, acks: &[String]) -> Result<Place, StoreError> {
    let name = format!("feed-place:{}", base64url::encode(digest(&SHA256, client.as_bytes())));
    for _ in 0..MOST_RACES {
        let kept = store.kept(&name).await?;
        let (version, bytes) = kept.map_or((0, Vec::new()), |kept| (kept.version, kept.bytes));
        let before = place(&bytes).flatten();
        let after = moved(client, before.clone(), acks);
        if after == before || store.keep(&name, version, text(&after).as_bytes()).await? {
            return Ok(after);
        }
    }
    Err(StoreError::new("keep a client's place", "it was moved by others again and again").passing())
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    fn at(text: &str) -> Place {
        Some(Cursor::new(text))
    }

    #[test]
    fn a_place_moves_by_what_begins_where_it_is() {
        let stretch = |begin: &Place, end: &Place| event_id("archive", begin, end);
        let (a, b, c) = (at("1 session 0 5 a"), at("2 token 0 5 \u{e9}"), at("3"));
        let ids = [stretch(&None, &a), stretch(&a, &b), stretch(&b, &c)];
        let moved = |place: &Place, ids: &[&String]| {
            moved("archive", place.clone(), &ids.iter().map(|id| (*id).clone()).collect::<Vec<_>>())
        };
        assert_eq!(moved(&None, &[]), None);
        assert_eq!(moved(&None, &[&ids[0]]), a);
        assert_eq!(moved(&None, &[&ids[2], &ids[1], &ids[0]]), c, "in whatever order");
        assert_eq!(moved(&None, &[&ids[1]]), None, "nothing is skipped");
        assert_eq!(moved(&b, &[&ids[0], &ids[1]]), b, "nothing comes again");
        assert_eq!(moved(&a, &[&stretch(&a, &None)]), None, "another feed, and nothing on it");
        assert_eq!(moved(&a, &[&stretch(&a, &b), &stretch(&b, &a)]), a, "no circle");
        let other = event_id("dome-controller", &None, &a);
        assert_eq!(moved(&None, &[&other]), None, "another client's");
        assert_ne!(other, ids[0]);
        assert_eq!(moved(&None, &[&String::new(), &"!".to_owned(), &"AAAA".to_owned()]), None);
    }

    proptest! {
        #![proptest_config(ProptestConfig { failure_persistence: None, ..ProptestConfig::default() })]

        #[test]
        fn an_id_says_where_it_ends_and_reading_one_never_panics(end in ".{0,80}", id in ".{0,40}") {
            let end = (!end.is_empty()).then(|| Cursor::new(end));
            prop_assert_eq!(end_of(&event_id("archive", &None, &end)), Some(end));
            let _ = end_of(&id);
        }
    }
}
