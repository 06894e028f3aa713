//! Every interleaving of renewals: two instances, two honest clients and a thief or three honest clients, lost replies,
//! repeated requests, crashes between any two steps. The checker takes every way through a small world. What happens to a
//! request is said by `Renewal`, the very state machine that the library's `Sessions` carries out; the model has the store,
//! what instances remember, and what clients do.

use std::hash::{Hash, Hasher};
use std::sync::LazyLock;
use std::time::Duration;

use stateright::{Checker, HasDiscoveries, Model, Property};
use vorsel_core::{
    Algorithm, EndReason, Ended, Generation, Presented, RefreshTokens, Renewal, RenewalStep, Secret, Session,
    SessionLimits, SessionSeed, SignIn, SigningKey, Timestamp,
};

/// One tick is a second.
type Tick = i64;
const WINDOW: Tick = 2;
const LAST_TICK: Tick = 3;
const LAST_GENERATION: u64 = 2;

/// How the algorithm is broken on purpose.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Broken {
    No,
    /// The store replaces the record whatever is there.
    NoCompareAndSwap,
    /// A spent token is good for ever.
    WindowWithoutEnd,
    /// A repeat makes a new token instead of the same.
    OtherSuccessor,
    /// Neither the state machine nor the store looks at the end.
    EndNotChecked,
}

/// A session as the store or an instance has it. All of them have the same facts.
#[derive(Clone, Debug, PartialEq, Eq)]
struct Record(Session);

impl Hash for Record {
    fn hash<H: Hasher>(&self, hasher: &mut H) {
        (self.0.current, &self.0.spent, self.0.ended).hash(hasher);
    }
}

impl Record {
    fn has_ended(&self) -> bool {
        self.0.ended.is_some()
    }

    fn end(&mut self) {
        self.0.ended.get_or_insert(Ended { at: START, why: EndReason::Withdrawn });
    }
}

/// Where a request stands.
#[derive(Clone, Debug, PartialEq, Eq)]
struct Under(RenewalStep);

impl Hash for Under {
    fn hash<H: Hasher>(&self, hasher: &mut H) {
        std::mem::discriminant(&self.0).hash(hasher);
        if let RenewalStep::Swap(swap) = &self.0 {
            (swap.next().current, &swap.next().spent).hash(hasher);
        }
    }
}

/// A refresh token by what it is made of; `copy` tells those apart that a broken algorithm makes.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
struct Token {
    generation: u64,
    began_at: Tick,
    copy: u8,
}

const HONEST: usize = 3;
const PARTIES: usize = 4;
const THIEF: usize = 3;

/// What one party is waiting for; each has one request under way at most.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
struct Request {
    token: Token,
    instance: usize,
    now: Tick,
    came_after_end: bool,
    step: Under,
    /// Whether it has taken a step yet.
    has_gone: bool,
}

#[derive(Clone, Debug, PartialEq, Eq, Hash)]
struct World {
    now: Tick,
    record: Record,
    /// What each instance remembers of the session.
    recent: [Option<Record>; 2],
    held: [Token; HONEST],
    requests: [Option<Request>; PARTIES],
    /// For each generation, when one of its tokens first came.
    first_came: Vec<Option<Tick>>,
    /// For each generation, what was answered to its tokens.
    successor: Vec<Option<Token>>,
    thief_came: bool,
    signed_out: bool,
    wrong: Wrong,
}

/// What must never happen, noted when it does.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Hash)]
struct Wrong {
    two_generations: bool,
    two_successors: bool,
    renewed_outside_the_window: bool,
    renewed_after_the_end: bool,
}

#[derive(Clone, Debug, PartialEq, Eq)]
enum Action {
    Tick,
    SignOut,
    Present {
        party: usize,
        token: Token,
        instance: usize,
    },
    /// The next step of a request; if it is the last one, the reply may be lost.
    Go {
        party: usize,
        reply_is_lost: bool,
    },
    /// The instance that works on it crashes. What it remembers is gone.
    Crash {
        party: usize,
    },
}

/// Who takes part, and whether the algorithm is as it should be.
struct Protocol {
    broken: Broken,
    honest: usize,
    thief: bool,
}

const START: Timestamp = Timestamp::from_secs(1_700_000_000);

fn at(tick: Tick) -> Timestamp {
    Timestamp::from_secs(START.as_secs() + tick)
}

fn limits(broken: Broken) -> SessionLimits {
    let window = if broken == Broken::WindowWithoutEnd { 1_000 } else { WINDOW.unsigned_abs() };
    SessionLimits { retry_window: Duration::from_secs(window), ..SessionLimits::default() }
}

fn tick(time: Timestamp) -> Tick {
    time.as_secs() - START.as_secs()
}

fn token(generation: Generation, copy: u8) -> Token {
    Token { generation: generation.number, began_at: tick(generation.began_at), copy }
}

static FIRST: LazyLock<Session> = LazyLock::new(|| {
    let seed = SessionSeed::new("s", [7; 32]);
    Session::begin(seed, SignIn::new("obs-0017", "desk"), &limits(Broken::No), START)
});

/// What the token of each generation says of itself.
static PRESENTED: LazyLock<Vec<Presented>> = LazyLock::new(|| {
    let key = SigningKey::hmac(Algorithm::Hs256, Secret::new((0..32).collect())).expect("a secret");
    let tokens = RefreshTokens::new("https://id.skarnhill.test", key).expect("refresh tokens");
    let presented = |number| {
        let token = tokens.token(&FIRST, Generation { number, ..FIRST.current }).expect("a token");
        tokens.check(&token, START).expect("an accepted token")
    };
    (0..=LAST_GENERATION + 1).map(presented).collect()
});

impl Protocol {
    /// A request comes to an instance, which may remember the session.
    fn arrive(&self, world: &mut World, party: usize, token: Token, instance: usize) {
        let presented = PRESENTED[token.generation as usize].clone();
        let renewal = Renewal::new(presented, limits(self.broken), at(world.now));
        let step = Under(renewal.begin(world.recent[instance].take().map(|Record(session)| session)));
        let (now, came_after_end) = (world.now, world.record.has_ended());
        world.requests[party] = Some(Request { token, instance, now, came_after_end, step, has_gone: false });
    }

    fn go(&self, world: &mut World, party: usize, reply_is_lost: bool) {
        let Some(request) = world.requests[party].take() else { return };
        match request.step.0.clone() {
            RenewalStep::Load(load) => {
                let mut found = world.record.0.clone();
                if self.broken == Broken::EndNotChecked {
                    found.ended = None;
                }
                self.next(world, party, &request, load.found(Some(found)), reply_is_lost);
            }
            RenewalStep::Swap(swap) => {
                let (is, next) = (world.record.0.current.number, swap.next().current.number);
                let has_ended = world.record.has_ended() && self.broken != Broken::EndNotChecked;
                // That the generation is above the one that is there is all that a store has to ask; that it comes to the
                // same as asking for the one before it is one of the promises.
                if self.broken == Broken::NoCompareAndSwap || is < next && !has_ended {
                    world.wrong.two_generations |= is + 1 != next;
                    world.wrong.renewed_after_the_end |= world.record.has_ended();
                    let made = swap.made();
                    let ended = world.record.0.ended;
                    world.record = Record(Session { ended, ..made.clone() });
                    world.answer(party, &request, token(made.current, 0), reply_is_lost);
                    world.recent[request.instance] = Some(Record(made));
                } else {
                    self.next(world, party, &request, swap.lost(), reply_is_lost);
                }
            }
            RenewalStep::End(..) => world.record.end(),
            RenewalStep::Repeat(..) | RenewalStep::Refuse(_) => {}
        }
    }

    /// What the state machine wants next: an answer is given at once, everything else takes another step.
    fn next(&self, world: &mut World, party: usize, request: &Request, step: RenewalStep, reply_is_lost: bool) {
        match step {
            RenewalStep::Repeat(_, successor) => {
                let copy = if self.broken == Broken::OtherSuccessor { 1 } else { 0 };
                world.answer(party, request, token(successor, copy), reply_is_lost);
            }
            RenewalStep::Refuse(_) => {}
            step => world.requests[party] = Some(Request { step: Under(step), has_gone: true, ..request.clone() }),
        }
    }
}

impl World {
    /// A token is on its way to the party: whether or not it arrives, it exists.
    fn answer(&mut self, party: usize, request: &Request, successor: Token, is_lost: bool) {
        let generation = request.token.generation as usize;
        self.wrong.two_successors |= self.successor[generation].is_some_and(|known| known != successor);
        self.successor[generation].get_or_insert(successor);
        let current = self.record.0.current;
        let spent_at = if current.number == successor.generation { tick(current.began_at) } else { successor.began_at };
        self.wrong.renewed_outside_the_window |= request.now >= spent_at + WINDOW;
        self.wrong.renewed_after_the_end |= request.came_after_end;
        if party < HONEST && !is_lost {
            self.held[party] = successor;
        }
    }

    /// Every token that was handed out.
    fn known(&self) -> Vec<Token> {
        let first = Token { generation: 0, began_at: 0, copy: 0 };
        [first].into_iter().chain(self.successor.iter().flatten().copied()).collect()
    }

    /// An honest client presents a token for the first time, or again within the window after it first came.
    fn is_honest(&self, token: Token) -> bool {
        self.first_came[token.generation as usize].is_none_or(|first| self.now < first + WINDOW)
    }
}

impl Model for Protocol {
    type State = World;
    type Action = Action;

    fn init_states(&self) -> Vec<World> {
        let first = Token { generation: 0, began_at: 0, copy: 0 };
        let record = Record(FIRST.clone());
        let generations = LAST_GENERATION as usize + 1;
        vec![World {
            now: 0,
            recent: [Some(record.clone()), None],
            record,
            held: [first; HONEST],
            requests: [const { None }; PARTIES],
            first_came: vec![None; generations],
            successor: vec![None; generations],
            thief_came: false,
            signed_out: false,
            wrong: Wrong::default(),
        }]
    }

    fn actions(&self, world: &World, actions: &mut Vec<Action>) {
        // What went wrong once need not be followed any further.
        if world.wrong != Wrong::default() {
            return;
        }
        if world.now < LAST_TICK && !world.record.has_ended() {
            actions.push(Action::Tick);
        }
        if !world.signed_out && !world.record.has_ended() {
            actions.push(Action::SignOut);
        }
        for (party, request) in world.requests.iter().enumerate() {
            if if party == THIEF { !self.thief } else { party >= self.honest } {
                continue;
            }
            if let Some(request) = request {
                actions.push(Action::Go { party, reply_is_lost: false });
                // Before its first step a crash is like a request that never came.
                if request.has_gone {
                    actions.push(Action::Crash { party });
                }
                if party < HONEST {
                    actions.push(Action::Go { party, reply_is_lost: true });
                }
                continue;
            }
            let tokens = if party == THIEF { world.known() } else { vec![world.held[party]] };
            for token in tokens.iter().filter(|token| token.generation < LAST_GENERATION) {
                if party == THIEF || world.is_honest(*token) {
                    // Clients go to either instance. The two are alike, so the thief goes to the first.
                    let instance = if party == THIEF { 0 } else { party % 2 };
                    actions.push(Action::Present { party, token: *token, instance });
                }
            }
        }
    }

    fn next_state(&self, world: &World, action: Action) -> Option<World> {
        let mut world = world.clone();
        match action {
            Action::Tick => world.now += 1,
            Action::SignOut => {
                world.record.end();
                world.signed_out = true;
            }
            Action::Present { party, token, instance } => {
                world.first_came[token.generation as usize].get_or_insert(world.now);
                world.thief_came |= party == THIEF;
                self.arrive(&mut world, party, token, instance);
            }
            Action::Go { party, reply_is_lost } => self.go(&mut world, party, reply_is_lost),
            Action::Crash { party } => {
                let instance = world.requests[party].take()?.instance;
                world.recent[instance] = None;
            }
        }
        Some(world)
    }

    fn properties(&self) -> Vec<Property<Self>> {
        vec![
            Property::always("never two live generations", |_, world: &World| !world.wrong.two_generations),
            Property::always("one successor for one token", |_, world: &World| !world.wrong.two_successors),
            Property::always("none renews outside the window of its token", |_, world: &World| {
                !world.wrong.renewed_outside_the_window
            }),
            Property::always("none renews after the end", |_, world: &World| !world.wrong.renewed_after_the_end),
            Property::always("who is honest is not signed out", |_, world: &World| {
                !world.record.has_ended() || world.thief_came || world.signed_out
            }),
            Property::sometimes("a thief ends the session", |_, world: &World| {
                world.record.has_ended() && !world.signed_out
            }),
            Property::sometimes("three generations are lived through", |_, world: &World| {
                world.record.0.current.number == LAST_GENERATION && !world.thief_came
            }),
        ]
    }
}

#[test]
fn every_interleaving_keeps_the_promises() {
    for (honest, thief) in [(2, true), (3, false)] {
        let checker = Protocol { broken: Broken::No, honest, thief }.checker().threads(2).spawn_bfs().join();
        println!("{honest} clients, thief {thief}: {} states", checker.unique_state_count());
        for (property, path) in checker.discoveries() {
            let is_wanted = ["a thief ends the session", "three generations are lived through"].contains(&property);
            assert!(is_wanted, "{property}: {path:?}");
        }
        assert!(checker.discovery("three generations are lived through").is_some());
        assert_eq!(checker.discovery("a thief ends the session").is_some(), thief);
        assert!(checker.unique_state_count() > 100_000, "{} states", checker.unique_state_count());
    }
}

#[test]
fn an_algorithm_broken_on_purpose_is_found_out() {
    for (broken, property) in [
        (Broken::NoCompareAndSwap, "never two live generations"),
        (Broken::WindowWithoutEnd, "none renews outside the window of its token"),
        (Broken::OtherSuccessor, "one successor for one token"),
        (Broken::EndNotChecked, "none renews after the end"),
    ] {
        let checker = Protocol { broken, honest: 2, thief: true }
            .checker()
            .threads(2)
            .finish_when(HasDiscoveries::AllOf([property].into()));
        let checker = checker.spawn_bfs().join();
        let found = checker.discovery(property);
        assert!(found.is_some(), "{broken:?} was not found");
        println!(
            "{broken:?}: {} steps to a world in which it is not true that {property}",
            found.expect("one").into_actions().len()
        );
    }
}
