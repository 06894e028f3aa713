//! Every interleaving of renewals: two instances, two honest clients and a thief or three honest clients, lost replies,
//! repeated requests, crashes between any two steps. The checker takes every way through a small world; what is decided
//! is decided by `Session::present` itself, and the steps around it are those of the library's `Sessions::renew`.

use std::sync::LazyLock;
use std::time::Duration;

use stateright::{Checker, HasDiscoveries, Model, Property};
use vorsel_core::{
    Algorithm, EndReason, Ended, Presented, RefreshTokens, Secret, Session, SessionLimits, SigningKey, Spent, Step,
    Timestamp,
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

/// A session as the store keeps it.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
struct Record {
    generation: u64,
    renewed_at: Tick,
    spent: Vec<Tick>,
    ended: bool,
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
    step: Doing,
}

#[derive(Clone, Debug, PartialEq, Eq, Hash)]
enum Doing {
    /// Looks at what the instance remembers, or else loads the record.
    Looking { may_remember: bool },
    /// Is about to swap the record for the next.
    Swapping(Record),
    /// Is about to end the session.
    Ending,
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

fn session(record: &Record) -> Session {
    let limits = limits(Broken::No);
    let mut session = Session::begin("s", Secret::new(vec![7; 32]), "obs-0017", "desk", &limits, START);
    session.generation = record.generation;
    session.renewed_at = at(record.renewed_at);
    session.spent =
        record.spent.iter().map(|tick| Spent { began_at: at(*tick), idle_until: session.idle_until }).collect();
    session.ended = record.ended.then_some(Ended { at: START, why: EndReason::Withdrawn });
    session
}

fn tick(time: Timestamp) -> Tick {
    time.as_secs() - START.as_secs()
}

/// What the token of each generation says of itself.
static PRESENTED: LazyLock<Vec<Presented>> = LazyLock::new(|| {
    let key = SigningKey::hmac(Algorithm::Hs256, Secret::new((0..32).collect())).expect("a secret");
    let tokens = RefreshTokens::new("https://id.skarnhill.test", key).expect("refresh tokens");
    let presented = |generation| {
        let session = session(&Record { generation, renewed_at: 0, spent: Vec::new(), ended: false });
        let token = tokens.token(&session, session.current()).expect("a token");
        tokens.check(&token, START).expect("an accepted token")
    };
    (0..=LAST_GENERATION + 1).map(presented).collect()
});

impl Protocol {
    /// What the state machine says.
    fn decide(&self, record: &Record, request: &Request) -> Step {
        let mut session = session(record);
        if self.broken == Broken::EndNotChecked {
            session.ended = None;
        }
        session.present(&PRESENTED[request.token.generation as usize], &limits(self.broken), at(request.now))
    }

    fn go(&self, world: &mut World, party: usize, reply_is_lost: bool) {
        let Some(mut request) = world.requests[party].take() else { return };
        match request.step.clone() {
            Doing::Looking { may_remember } => {
                let remembered = world.recent[request.instance].take_if(|_| may_remember);
                let known = remembered.filter(|known| matches!(self.decide(known, &request), Step::Advance(_)));
                let record = known.unwrap_or_else(|| world.record.clone());
                match self.decide(&record, &request) {
                    Step::Advance(next) => {
                        request.step = Doing::Swapping(Record {
                            generation: next.generation,
                            renewed_at: tick(next.renewed_at),
                            spent: next.spent.iter().map(|spent| tick(spent.began_at)).collect(),
                            ended: record.ended,
                        });
                        world.requests[party] = Some(request);
                    }
                    Step::Repeat(successor) => {
                        let copy = if self.broken == Broken::OtherSuccessor { 1 } else { 0 };
                        let (generation, began_at) = (successor.number(), tick(successor.began_at()));
                        world.answer(party, &request, Token { generation, began_at, copy }, reply_is_lost);
                    }
                    Step::Replay => {
                        request.step = Doing::Ending;
                        world.requests[party] = Some(request);
                    }
                    Step::Expired | Step::Ended(_) | Step::Foreign | Step::Outrun => {}
                }
            }
            Doing::Swapping(next) => {
                let is_next = world.record.generation + 1 == next.generation;
                // All that a store has to ask; that it comes to the same is one of the promises.
                let is_below = world.record.generation < next.generation;
                let has_ended = world.record.ended && self.broken != Broken::EndNotChecked;
                if self.broken == Broken::NoCompareAndSwap || is_below && !has_ended {
                    world.wrong.two_generations |= !is_next;
                    world.wrong.renewed_after_the_end |= world.record.ended;
                    let ended = world.record.ended;
                    world.record = Record { ended, ..next };
                    world.recent[request.instance] = Some(world.record.clone());
                    let (generation, began_at) = (world.record.generation, world.record.renewed_at);
                    world.answer(party, &request, Token { generation, began_at, copy: 0 }, reply_is_lost);
                } else {
                    request.step = Doing::Looking { may_remember: false };
                    world.requests[party] = Some(request);
                }
            }
            Doing::Ending => world.record.ended = true,
        }
    }
}

impl World {
    /// A token is on its way to the party: whether or not it arrives, it exists.
    fn answer(&mut self, party: usize, request: &Request, successor: Token, is_lost: bool) {
        let generation = request.token.generation as usize;
        self.wrong.two_successors |= self.successor[generation].is_some_and(|known| known != successor);
        self.successor[generation].get_or_insert(successor);
        let spent_at =
            if self.record.generation == successor.generation { self.record.renewed_at } else { successor.began_at };
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
        let record = Record { generation: 0, renewed_at: 0, spent: Vec::new(), ended: false };
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
        if world.now < LAST_TICK && !world.record.ended {
            actions.push(Action::Tick);
        }
        if !world.signed_out && !world.record.ended {
            actions.push(Action::SignOut);
        }
        for (party, request) in world.requests.iter().enumerate() {
            if if party == THIEF { !self.thief } else { party >= self.honest } {
                continue;
            }
            if let Some(request) = request {
                actions.push(Action::Go { party, reply_is_lost: false });
                // Before its first step a crash is like a request that never came.
                if !matches!(request.step, Doing::Looking { may_remember: true }) {
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
                world.record.ended = true;
                world.signed_out = true;
            }
            Action::Present { party, token, instance } => {
                world.first_came[token.generation as usize].get_or_insert(world.now);
                world.thief_came |= party == THIEF;
                let step = Doing::Looking { may_remember: true };
                let came_after_end = world.record.ended;
                world.requests[party] = Some(Request { token, instance, now: world.now, came_after_end, step });
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
                !world.record.ended || world.thief_came || world.signed_out
            }),
            Property::sometimes("a thief ends the session", |_, world: &World| world.record.ended && !world.signed_out),
            Property::sometimes("three generations are lived through", |_, world: &World| {
                world.record.generation == LAST_GENERATION && !world.thief_came
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
