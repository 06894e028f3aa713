//! When tokens first came that could not be answered at once.

use std::time::Duration;

use super::presented::Presented;
use super::silences::Silences;
use crate::time::Timestamp;

/// What an instance knows of refresh tokens that it could not answer, or only late: they count as having come when they first
/// came, for as long as their holder goes on asking. So whoever came in time is in time, however long a store stands still; and
/// whoever came late gains nothing by a delay.
///
/// A fixed number of places; a token that finds its own taken is judged by each of its arrivals alone.
///
/// ```
/// # use vorsel_core::{Algorithm, RefreshTokens, Secret, Session, SessionLimits, SessionSeed, SignIn, SigningKey, Timestamp};
/// # let (now, limits) = (Timestamp::from_secs(1_700_000_000), SessionLimits::default());
/// # let key = SigningKey::hmac(Algorithm::Hs256, Secret::from(std::array::from_fn::<u8, 32, _>(|place| place as u8)))?;
/// # let tokens = RefreshTokens::new("https://id.skarnhill.test", key)?;
/// # let session = Session::begin(SessionSeed::new("s1", [7; 32]), SignIn::new("obs-0017", "desk"), &limits, now);
/// use std::time::Duration;
/// use vorsel_core::{Arrivals, Silences};
///
/// let presented = tokens.check(&tokens.token(&session, session.current)?, now)?;
/// let mut arrivals = Arrivals::with_places(1_024);
/// arrivals.unanswered(&presented, now, now);
/// let later = now.after(Duration::from_secs(40));
/// assert_eq!(
///     arrivals.first(&presented, &Silences::default(), later), now,
///     "it counts as having come when it first came",
/// );
/// # Ok::<(), Box<dyn std::error::Error>>(())
/// ```
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub struct Arrivals {
    places: Box<[Option<Arrival>]>,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
struct Arrival {
    token: u64,
    first: Timestamp,
    noted_at: Timestamp,
    until: Timestamp,
    is_answered: bool,
}

/// A holder who has heard nothing comes again within this time.
const COMES_AGAIN_WITHIN: Duration = Duration::from_secs(60);
/// What is answered sooner takes nothing worth counting off the retry window.
const SOON: Duration = Duration::from_secs(1);

impl Arrivals {
    /// Room for so many tokens, one at least.
    #[must_use]
    pub fn with_places(count: usize) -> Self {
        Self { places: vec![None; count.max(1)].into() }
    }

    /// When this token counts as having come, now that it comes.
    #[must_use]
    pub fn first(&self, token: &Presented, silences: &Silences, now: Timestamp) -> Timestamp {
        let token = key(token);
        let is_open = |known: &Arrival| {
            let silent = if known.is_answered { silences.between(known.noted_at, now) } else { Duration::ZERO };
            known.token == token && now < known.until.after(silent)
        };
        self.places[token as usize % self.places.len()].filter(is_open).map_or(now, |known| known.first.min(now))
    }

    /// It got no answer that its holder could go on with, and may come again.
    pub fn unanswered(&mut self, token: &Presented, came_at: Timestamp, now: Timestamp) {
        let (token, until) = (key(token), now.after(COMES_AGAIN_WITHIN));
        let place = self.place_mut(token);
        let known = place.filter(|known| known.token == token || now < known.until);
        match known {
            Some(known) if known.token != token || known.is_answered => {}
            Some(known) if now < known.until => {
                *place = Some(Arrival { until, first: known.first.min(came_at), ..known });
            }
            _ => *place = Some(Arrival { token, first: came_at, noted_at: now, until, is_answered: false }),
        }
    }

    /// It got the answer that was owed to it, with the successor that was `made` for it or one that was there. For as long as the
    /// retry window its holder may still find that the answer was lost. The first answer is the last word on a token.
    pub fn answered(&mut self, token: &Presented, came_at: Timestamp, made: bool, window: Duration, now: Timestamp) {
        let (token, until) = (key(token), now.after(window));
        let place = self.place_mut(token);
        match place {
            Some(known) if known.token == token && !known.is_answered => {
                *known = Arrival { noted_at: now, until, is_answered: true, ..*known };
            }
            Some(known) if known.token == token || now < known.until => {}
            place if made && now >= came_at.after(SOON) => {
                *place = Some(Arrival { token, first: came_at, noted_at: now, until, is_answered: true });
            }
            _ => {}
        }
    }

    fn place_mut(&mut self, token: u64) -> &mut Option<Arrival> {
        let at = token as usize % self.places.len();
        &mut self.places[at]
    }
}

/// The ID of a token is an HMAC in base64url: nobody can choose it, and six bits of each character tell tokens apart.
fn key(token: &Presented) -> u64 {
    token.token_id.bytes().fold(0, |key: u64, byte| key.rotate_left(6) ^ u64::from(byte))
}
