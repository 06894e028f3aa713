//! Every interleaving of renewals: two instances, honest clients and a thief, lost replies, repeated requests, crashes between
//! any two steps, time that passes between them, writes that are given up and carried out later or never, a store that
//! stands still or fails over, and an instance that is wrong about the store's time. The checker takes every way through a small world. What happens to a request is said by `Renewal`, `Arrivals`
//! and `Silences`, the very types that the library's `Sessions` carries out; the model has the store, what instances remember,
//! and what clients do.

use std::hash::{Hash, Hasher};
use std::sync::LazyLock;
use std::time::Duration;

use stateright::{Checker, HasDiscoveries, Model, Property};
use vorsel_core::{
    Algorithm, Arrivals, CurrentToken, EndReason, Ended, Generation, Presented, RefreshTokens, Renewal, RenewalRefusal,
    RenewalStep, Secret, Session, SessionLimits, SessionSeed, SignIn, SigningKey, Silences, Swap, Timestamp,
};

/// One tick is a second.
type Tick = i64;
const WINDOW: Tick = 2;
const LAST_TICK: Tick = 3;
const LAST_GENERATION: u64 = 2;
const GENERATIONS: usize = LAST_GENERATION as usize + 1;

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
    /// A generation begins when its request came.
    BeginsWithTheRequest,
    /// A token that was not answered counts as coming for the first time when it comes again.
    ArrivalsForgotten,
    /// An answer does not end what its token may ask for.
    AnswersForgotten,
    /// Time in which the store answers nobody counts.
    SilencesForgotten,
    /// A token of a generation that a fail-over has lost is unknown.
    LostIsUnknown,
    /// An instance goes by the store alone, whatever it has heard of an end.
    EndsForgotten,
    /// The clock of an instance is further from the store's than it is taken to be.
    ClockNotMeasured,
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
enum Under {
    Step(RenewalStep),
    /// The swap is on its way to the store.
    Sent(Swap, Record),
}

impl Hash for Under {
    fn hash<H: Hasher>(&self, hasher: &mut H) {
        match self {
            Self::Step(step) => {
                std::mem::discriminant(step).hash(hasher);
                if let RenewalStep::Swap(swap) = step {
                    swap.session().current.hash(hasher);
                }
            }
            Self::Sent(_, next) => next.hash(hasher),
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

/// Enough for each token to have its own.
const PLACES: usize = 8;
const HONEST: usize = 3;
const PARTIES: usize = 4;
const THIEF: usize = 3;

/// What one party is waiting for; each has one request under way at most.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
struct Request {
    token: Token,
    instance: usize,
    now: Tick,
    /// When its token counts as having come.
    came_at: Timestamp,
    came_after_end: bool,
    /// Its instance had heard of the end.
    came_to_who_knows: bool,
    step: Under,
    /// Whether it has taken a step yet.
    has_gone: bool,
}

#[derive(Clone, Debug, PartialEq, Eq, Hash)]
struct World {
    now: Tick,
    record: Record,
    instances: [Instance; 2],
    held: [Token; HONEST],
    /// Since when a client whose request came to nothing may come again: for as long as it is owed an answer, or for a window.
    may_retry: [Option<Tick>; HONEST],
    is_owed: [bool; HONEST],
    requests: [Option<Request>; PARTIES],
    /// A write that was given up, and may still be carried out.
    late: Option<Record>,
    given_up: u8,
    stands_still_since: Option<Tick>,
    /// In how many of the ticks before each the store stood still.
    still: [Tick; LAST_TICK as usize + 1],
    /// For each generation, when one of its tokens first came, and when it was spent.
    first_came: [Option<Tick>; GENERATIONS],
    spent_at: [Option<Tick>; GENERATIONS],
    /// For each generation, what was answered to its tokens.
    successor: [Option<Token>; GENERATIONS],
    thief_came: bool,
    signed_out: bool,
    /// What the store had before each renewal and each end, which a fail-over may bring back, and whether one did.
    before: Vec<Record>,
    has_failed_over: bool,
    /// An end that was lost was put back.
    was_told_again: bool,
    /// A crash on top of a write that was given up, or of a store that stood still: then nothing is promised to clients.
    crashed_on_top: bool,
    wrong: Wrong,
}

/// What an instance remembers, and for each generation when a token of its first came here and was first answered.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
struct Instance {
    recent: Option<Record>,
    arrivals: Arrivals,
    silences: Silences,
    came: [Option<Tick>; GENERATIONS],
    answered: [Option<Tick>; GENERATIONS],
    /// Whether one of its tokens was ever answered here.
    has_answered: [bool; GENERATIONS],
    /// Whether it has heard that the session has ended, and whether it has put that back since a fail-over.
    knows_the_end: bool,
}

impl Instance {
    fn new(recent: Option<Record>) -> Self {
        let (arrivals, silences) = (Arrivals::with_places(PLACES), Silences::default());
        Self {
            recent,
            arrivals,
            silences,
            came: [None; GENERATIONS],
            answered: [None; GENERATIONS],
            has_answered: [false; GENERATIONS],
            knows_the_end: false,
        }
    }
}

/// What must never happen, noted when it does.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Hash)]
struct Wrong {
    two_generations: bool,
    two_successors: bool,
    renewed_outside_the_window: bool,
    renewed_after_the_end: bool,
    renewed_where_the_end_is_known: bool,
    an_owner_is_unknown: bool,
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
    /// The instance does not wait any longer for the store; the client hears that it may try again.
    GiveUp {
        party: usize,
    },
    /// A write that was given up is carried out.
    Land,
    /// The store answers nobody, until it does again.
    StandStill,
    GoOn,
    /// A standby takes over that has not heard of the last renewals.
    FailOver {
        to: usize,
    },
    /// An instance hears of the end, as whoever ended it does before it says so; or puts it back, where it is not any more.
    Hear {
        instance: usize,
    },
    TellAgain {
        instance: usize,
    },
}

/// Who takes part, and whether the algorithm is as it should be.
#[derive(Clone, Copy, Debug)]
struct Protocol {
    broken: Broken,
    honest: usize,
    thief: bool,
    last_generation: u64,
    /// Whether time passes between what is sent to the store and what it does. Else nothing is owed to anybody for longer.
    is_slow: bool,
    /// How many requests are given up at most.
    give_ups: u8,
    stands_still: bool,
    fails_over: bool,
    /// Whether it can lose an end as well as renewals.
    loses_ends: bool,
    /// How far the second instance is ahead of the store's time, or behind it, by its own reckoning of that: what its measuring is off by.
    ahead: Tick,
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

/// What a token says of itself, by its generation and when that began.
static PRESENTED: LazyLock<Vec<Vec<Presented>>> = LazyLock::new(|| {
    let key = SigningKey::hmac(Algorithm::Hs256, Secret::new((0..32).collect())).expect("a secret");
    let tokens = RefreshTokens::new("https://id.skarnhill.test", key).expect("refresh tokens");
    let presented = |number, began_at| {
        let generation = Generation { number, began_at: at(began_at), ..FIRST.current };
        let token = tokens.token(&FIRST, generation).expect("a token");
        tokens.check(&token, at(began_at)).expect("an accepted token")
    };
    let ticks = || -FURTHEST..=LAST_TICK + FURTHEST;
    (0..=LAST_GENERATION).map(|number| ticks().map(|tick| presented(number, tick)).collect()).collect()
});

fn presented(token: Token) -> &'static Presented {
    &PRESENTED[token.generation as usize][(token.began_at + FURTHEST) as usize]
}

/// No instance is further from the store's time.
const FURTHEST: Tick = 2;

impl Protocol {
    /// What an instance takes a moment for.
    fn reckoned(&self, instance: usize, moment: Tick) -> Timestamp {
        let off = match (instance, self.broken) {
            (0, _) => 0,
            (_, Broken::ClockNotMeasured) => self.ahead * FURTHEST,
            _ => self.ahead,
        };
        at(moment + off)
    }

    /// A request comes to an instance, which may remember the session.
    fn arrive(&self, world: &mut World, party: usize, token: Token, number: usize) {
        let (presented, now) = (presented(token).clone(), world.now);
        let instance = &mut world.instances[number];
        if self.is_slow {
            instance.came[token.generation as usize].get_or_insert(now);
        }
        let reckoned = self.reckoned(number, now);
        // It is known by its token.
        let current = instance.recent.as_ref().map(|Record(session)| CurrentToken::of(session.clone()));
        let recent = current.filter(|current| **current.presented() == presented);
        if recent.is_some() {
            instance.recent = None;
        }
        let renewal = Renewal::new(presented, limits(self.broken), reckoned);
        let step = Under::Step(renewal.begin(recent));
        let (came_after_end, came_to_who_knows) = (world.record.has_ended(), instance.knows_the_end);
        world.requests[party] = Some(Request {
            token,
            instance: number,
            now,
            came_at: reckoned,
            came_after_end,
            came_to_who_knows,
            step,
            has_gone: false,
        });
    }

    fn go(&self, world: &mut World, party: usize, reply_is_lost: bool) {
        let Some(request) = world.requests[party].take() else { return };
        match request.step.clone() {
            Under::Step(RenewalStep::Load(load)) => {
                let mut found = world.record.0.clone();
                if self.broken == Broken::EndNotChecked {
                    found.ended = None;
                }
                let Instance { arrivals, silences, .. } = &world.instances[request.instance];
                let presented = presented(request.token);
                let reckoned = self.reckoned(request.instance, request.now);
                let mut came_at = arrivals.first(presented, silences, reckoned);
                if self.broken == Broken::ArrivalsForgotten {
                    came_at = reckoned;
                }
                let is_lost = request.token.generation > found.current.number;
                let step = match self.broken {
                    Broken::LostIsUnknown if is_lost => RenewalStep::Refuse(RenewalRefusal::Unknown),
                    _ => load.found(Some(found), came_at, silences),
                };
                self.next(world, party, &Request { came_at, ..request }, step, reply_is_lost);
            }
            Under::Step(RenewalStep::Swap(_)) if self.ends_again(world, request.instance) => {}
            Under::Step(RenewalStep::Swap(swap)) => {
                let begins_early = self.broken == Broken::BeginsWithTheRequest;
                let now = self.reckoned(request.instance, world.now);
                let next = Record(swap.next(if begins_early { request.came_at } else { now }));
                world.requests[party] = Some(Request { step: Under::Sent(swap, next), has_gone: true, ..request });
                if !self.is_slow {
                    self.go(world, party, reply_is_lost);
                }
            }
            Under::Sent(swap, Record(made)) => {
                if self.is_swapped(world, &made) {
                    self.answer(world, party, &request, token(made.current, 0), reply_is_lost);
                    world.instances[request.instance].recent = Some(Record(made));
                } else {
                    self.next(world, party, &request, swap.lost(), reply_is_lost);
                }
            }
            Under::Step(RenewalStep::End(..)) => self.end(world),
            Under::Step(RenewalStep::Repeat(..) | RenewalStep::Refuse(_)) => {}
        }
    }

    fn end(&self, world: &mut World) {
        if self.loses_ends && !world.has_failed_over && !world.record.has_ended() {
            world.before.push(world.record.clone());
        }
        world.record.end();
    }

    /// What is about to be answered at an instance that has heard of the end is ended and refused instead.
    fn ends_again(&self, world: &mut World, instance: usize) -> bool {
        let knows = world.instances[instance].knows_the_end && self.broken != Broken::EndsForgotten;
        if knows {
            self.end(world);
        }
        knows
    }

    /// That the generation is above the one that is there is all that a store has to ask; that it comes to the same as asking
    /// for the one before it is one of the promises.
    fn is_swapped(&self, world: &mut World, next: &Session) -> bool {
        let (is, number) = (world.record.0.current.number, next.current.number);
        let has_ended = world.record.has_ended() && self.broken != Broken::EndNotChecked;
        let is_swapped = self.broken == Broken::NoCompareAndSwap || is < number && !has_ended;
        if is_swapped {
            world.wrong.two_generations |= is + 1 != number && !world.has_failed_over;
            world.wrong.renewed_after_the_end |= world.record.has_ended();
            world.spent_at[number as usize - 1].get_or_insert(world.now);
            let ended = world.record.0.ended;
            if self.fails_over && !world.has_failed_over {
                world.before.push(world.record.clone());
            }
            world.record = Record(Session { ended, ..next.clone() });
        }
        is_swapped
    }

    /// What the state machine wants next: an answer is given at once, everything else takes another step.
    fn next(&self, world: &mut World, party: usize, request: &Request, step: RenewalStep, reply_is_lost: bool) {
        match step {
            RenewalStep::Repeat(..) if self.ends_again(world, request.instance) => {}
            RenewalStep::Repeat(_, successor) => {
                let copy = if self.broken == Broken::OtherSuccessor { 1 } else { 0 };
                self.answer(world, party, request, token(successor, copy), reply_is_lost);
            }
            RenewalStep::Refuse(RenewalRefusal::Unknown) => world.wrong.an_owner_is_unknown |= party < HONEST,
            RenewalStep::Refuse(_) => {}
            step => {
                let step = Under::Step(step);
                world.requests[party] = Some(Request { step, has_gone: true, ..request.clone() });
            }
        }
    }

    /// A token is on its way to the party: whether or not it arrives, it exists.
    fn answer(&self, world: &mut World, party: usize, request: &Request, successor: Token, is_lost: bool) {
        let generation = request.token.generation as usize;
        let is_another = world.successor[generation].is_some_and(|known| known != successor);
        world.wrong.two_successors |= is_another && !world.has_failed_over;
        world.successor[generation].get_or_insert(successor);
        // That a token was spent may be what was lost.
        world.wrong.renewed_outside_the_window |=
            !world.is_in_time(request, self.ahead.abs()) && !world.has_failed_over;
        world.wrong.renewed_after_the_end |= request.came_after_end && !world.has_failed_over;
        world.wrong.renewed_where_the_end_is_known |= request.came_to_who_knows;
        let now = world.now;
        let instance = &mut world.instances[request.instance];
        if self.is_slow {
            instance.answered[generation].get_or_insert(now);
            instance.has_answered[generation] = true;
        }
        if self.is_slow && self.broken != Broken::AnswersForgotten {
            let window = limits(self.broken).retry_window;
            let made = matches!(request.step, Under::Sent(..));
            let reckoned = self.reckoned(request.instance, now);
            instance.arrivals.answered(presented(request.token), request.came_at, made, window, reckoned);
        }
        if party < HONEST {
            let was_owed = std::mem::take(&mut world.is_owed[party]);
            if !is_lost {
                world.held[party] = successor;
                world.may_retry[party] = None;
            } else if was_owed {
                world.may_retry[party] = Some(now);
            }
        }
    }

    fn give_up(&self, world: &mut World, party: usize) {
        let Some(request) = world.requests[party].take() else { return };
        world.given_up += 1;
        let generation = request.token.generation as usize;
        // Whoever was in time by each clock is owed an answer; whoever was by one of them may be taken for that.
        let [is_owed, may_be_owed] = [-1, 1].map(|by| world.is_in_time(&request, by * self.ahead.abs()));
        let instance = &mut world.instances[request.instance];
        let reckoned = self.reckoned(request.instance, world.now);
        instance.arrivals.unanswered(presented(request.token), request.came_at, reckoned);
        if let Under::Sent(_, next) = request.step {
            world.late = Some(next);
        }
        if party < HONEST && is_owed && !instance.has_answered[generation] {
            world.may_retry[party] = Some(world.now);
            world.is_owed[party] = true;
        }
        if may_be_owed {
            instance.answered[generation] = None;
            // A crash breaks off one request alone in this model; another may have come before it.
            instance.came[generation] = instance.came[generation].min(Some(request.now)).or(Some(request.now));
        }
    }
}

impl World {
    /// Whether the window, longer by so much, was open when the request came, or when its token first came here and got no answer. Time in
    /// which the store stood still does not count.
    fn is_in_time(&self, request: &Request, longer: Tick) -> bool {
        let generation = request.token.generation as usize;
        let Some(spent_at) = self.spent_at[generation] else { return true };
        let is_before = |came: Tick, from: Tick| came < from + WINDOW + longer + self.still_between(from, came);
        let instance = &self.instances[request.instance];
        let (came, answered) = (instance.came[generation], instance.answered[generation]);
        is_before(request.now, spent_at)
            || came.is_some_and(|came| is_before(came, spent_at))
                && answered.is_none_or(|answered| is_before(request.now, answered))
    }

    fn still_between(&self, from: Tick, to: Tick) -> Tick {
        let still = |tick: Tick| self.still[tick as usize];
        if from < to { still(to) - still(from) } else { 0 }
    }

    /// Every token that was handed out.
    fn known(&self) -> Vec<Token> {
        let first = Token { generation: 0, began_at: 0, copy: 0 };
        [first].into_iter().chain(self.successor.iter().flatten().copied()).collect()
    }

    /// An honest client presents a token for the first time, before anybody asks the store to spend it, or within the window after
    /// it first came; or it keeps asking the instance that owes it an answer.
    fn is_honest(&self, party: usize, token: Token, off_by: Tick) -> bool {
        let is_soon = |since: Tick| self.now < since + WINDOW - off_by + self.still_between(since, self.now);
        let is_sent = |request: &Request| matches!(request.step, Under::Sent(..));
        let is_asked_for = self.late.is_some() || self.requests.iter().flatten().any(is_sent);
        self.is_owed[party]
            || self.spent_at[token.generation as usize].is_none() && !is_asked_for
            || self.may_retry[party].is_some_and(is_soon)
            || self.first_came[token.generation as usize].is_none_or(is_soon)
    }
}

impl Model for Protocol {
    type State = World;
    type Action = Action;

    fn init_states(&self) -> Vec<World> {
        let first = Token { generation: 0, began_at: 0, copy: 0 };
        let record = Record(FIRST.clone());
        vec![World {
            now: 0,
            instances: [Some(record.clone()), None].map(Instance::new),
            record,
            held: [first; HONEST],
            may_retry: [None; HONEST],
            is_owed: [false; HONEST],
            requests: [const { None }; PARTIES],
            late: None,
            given_up: 0,
            stands_still_since: None,
            still: [0; LAST_TICK as usize + 1],
            first_came: [None; GENERATIONS],
            spent_at: [None; GENERATIONS],
            successor: [None; GENERATIONS],
            thief_came: false,
            signed_out: false,
            before: Vec::new(),
            has_failed_over: false,
            was_told_again: false,
            crashed_on_top: false,
            wrong: Wrong::default(),
        }]
    }

    fn actions(&self, world: &World, actions: &mut Vec<Action>) {
        // What went wrong once, or is promised nothing any more, need not be followed any further.
        if world.wrong != Wrong::default() || world.crashed_on_top {
            return;
        }
        if world.now < LAST_TICK && !world.record.has_ended() {
            actions.push(Action::Tick);
        }
        if !world.signed_out && !world.record.has_ended() {
            actions.push(Action::SignOut);
        }
        if self.fails_over && !world.has_failed_over && (self.loses_ends || !world.record.has_ended()) {
            actions.extend((0..world.before.len()).map(|to| Action::FailOver { to }));
        }
        for instance in (0..if self.loses_ends { 2 } else { 0 }).filter(|_| world.stands_still_since.is_none()) {
            match (world.instances[instance].knows_the_end, world.record.has_ended()) {
                (false, true) => actions.push(Action::Hear { instance }),
                (true, false) => actions.push(Action::TellAgain { instance }),
                _ => {}
            }
        }
        if world.late.is_some() && world.stands_still_since.is_none() {
            actions.push(Action::Land);
        }
        match world.stands_still_since {
            None if self.stands_still && world.still[LAST_TICK as usize] == 0 => actions.push(Action::StandStill),
            Some(since) if since < world.now => actions.push(Action::GoOn),
            _ => {}
        }
        for (party, request) in world.requests.iter().enumerate() {
            if if party == THIEF { !self.thief } else { party >= self.honest } {
                continue;
            }
            if let Some(request) = request {
                let waits_for_the_store = !matches!(request.step, Under::Step(RenewalStep::Swap(_)));
                if waits_for_the_store && world.given_up < self.give_ups && world.late.is_none() {
                    actions.push(Action::GiveUp { party });
                }
                if waits_for_the_store && world.stands_still_since.is_some() {
                    continue;
                }
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
            for token in tokens.iter().filter(|token| token.generation < self.last_generation) {
                if party == THIEF || world.is_honest(party, *token, self.ahead.abs()) {
                    // Clients go to either instance. The thief does, too, unless the two are alike.
                    let both = party == THIEF && self.ahead != 0;
                    let instances = if both {
                        0..2
                    } else if party == THIEF {
                        0..1
                    } else {
                        party % 2..party % 2 + 1
                    };
                    actions.extend(instances.map(|instance| Action::Present { party, token: *token, instance }));
                }
            }
        }
    }

    fn next_state(&self, world: &World, action: Action) -> Option<World> {
        let mut world = world.clone();
        match action {
            Action::Tick => {
                world.now += 1;
                if world.stands_still_since.is_some() {
                    world.still[world.now as usize..].iter_mut().for_each(|still| *still += 1);
                }
            }
            Action::SignOut => {
                self.end(&mut world);
                world.signed_out = true;
            }
            Action::Hear { instance } => world.instances[instance].knows_the_end = true,
            Action::TellAgain { .. } => {
                self.end(&mut world);
                world.was_told_again = true;
            }
            Action::Present { party, token, instance } => {
                world.first_came[token.generation as usize].get_or_insert(world.now);
                world.thief_came |= party == THIEF;
                self.arrive(&mut world, party, token, instance);
            }
            Action::Go { party, reply_is_lost } => self.go(&mut world, party, reply_is_lost),
            Action::Crash { party } => {
                let instance = world.requests[party].take()?.instance;
                world.instances[instance] = Instance::new(None);
                // Others go on in this model; their instance knows as little as if they had come now.
                for other in world.requests.iter_mut().flatten().filter(|other| other.instance == instance) {
                    other.came_to_who_knows = false;
                }
                let has_stood_still = world.stands_still_since.is_some() || world.still[LAST_TICK as usize] > 0;
                world.crashed_on_top |= has_stood_still || world.given_up > 0;
            }
            Action::GiveUp { party } => self.give_up(&mut world, party),
            Action::Land => {
                let Record(next) = world.late.take()?;
                self.is_swapped(&mut world, &next);
            }
            Action::FailOver { to } => {
                world.record = world.before.get(to)?.clone();
                world.before.clear();
                world.has_failed_over = true;
            }
            Action::StandStill => world.stands_still_since = Some(world.now),
            Action::GoOn => {
                let since = world.stands_still_since.take()?;
                if self.broken != Broken::SilencesForgotten {
                    // Each instance follows the feed, so it knows.
                    for (number, instance) in world.instances.iter_mut().enumerate() {
                        instance.silences.failed(self.reckoned(number, since));
                        instance.silences.heard(self.reckoned(number, world.now));
                    }
                }
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
            Property::always("none renews where the end is known, whatever was lost", |_, world: &World| {
                !world.wrong.renewed_where_the_end_is_known
            }),
            Property::always("what was told again stays", |_, world: &World| {
                !world.was_told_again || world.record.has_ended()
            }),
            Property::always("who holds the last token goes on, whatever was lost", |_, world: &World| {
                !world.wrong.an_owner_is_unknown
            }),
            Property::always("who is honest is not signed out", |_, world: &World| {
                !world.record.has_ended() || world.thief_came || world.signed_out || world.crashed_on_top
            }),
            Property::sometimes("a thief ends the session", |_, world: &World| {
                world.record.has_ended() && !world.signed_out
            }),
            Property::sometimes("every generation is lived through", |protocol: &Self, world: &World| {
                world.record.0.current.number == protocol.last_generation && !world.thief_came
            }),
        ]
    }
}

/// What happened on a way, briefly.
fn told(path: stateright::Path<World, Action>) -> Vec<String> {
    let step = |(world, action): (World, Option<Action>)| {
        let step = action.map(|action| match action {
            Action::Present { party, token, instance } => {
                format!("{party} presents {} at {instance}", token.generation)
            }
            other => format!("{other:?}"),
        });
        format!("{}: {}, spent {:?}", world.now, step.unwrap_or_default(), world.spent_at)
    };
    path.into_vec().into_iter().map(step).collect()
}

const WANTED: [&str; 2] = ["a thief ends the session", "every generation is lived through"];

#[test]
fn every_interleaving_keeps_the_promises() {
    let fast = Protocol {
        broken: Broken::No,
        honest: 2,
        thief: true,
        last_generation: LAST_GENERATION,
        is_slow: false,
        give_ups: 0,
        stands_still: false,
        fails_over: false,
        loses_ends: false,
        ahead: 0,
    };
    let lossy = Protocol { fails_over: true, loses_ends: true, ..fast };
    let slow = Protocol { last_generation: 1, is_slow: true, give_ups: 1, ..fast };
    let worlds = [
        fast,
        Protocol { honest: 3, thief: false, ..fast },
        Protocol { honest: 1, last_generation: 1, ..lossy },
        Protocol { honest: 1, thief: false, last_generation: 2, fails_over: true, loses_ends: true, ..slow },
        Protocol { honest: 1, ahead: 1, ..fast },
        Protocol { honest: 1, ahead: -1, ..fast },
        Protocol { thief: false, ahead: 1, ..slow },
        Protocol { thief: false, ahead: -1, ..slow },
        Protocol { honest: 1, ..slow },
        Protocol { thief: false, ..slow },
        Protocol { honest: 1, give_ups: 2, ..slow },
        Protocol { thief: false, give_ups: 2, ..slow },
        Protocol { thief: false, ..lossy },
        Protocol { honest: 1, ..lossy },
        Protocol { last_generation: 1, ..lossy },
        Protocol { ahead: 1, ..fast },
        Protocol { ahead: -1, ..fast },
        Protocol { honest: 1, ahead: 1, ..slow },
        Protocol { honest: 1, ahead: -1, ..slow },
        Protocol { last_generation: 1, ahead: 1, ..lossy },
        Protocol { last_generation: 1, ahead: -1, ..lossy },
        Protocol { thief: false, ahead: 1, ..lossy },
        Protocol { thief: false, ahead: -1, ..lossy },
        Protocol { honest: 1, fails_over: true, ..slow },
        Protocol { honest: 1, stands_still: true, ..slow },
        Protocol { thief: false, stands_still: true, ..slow },
        Protocol { thief: false, stands_still: true, ahead: 1, ..slow },
        Protocol { thief: false, stands_still: true, ahead: -1, ..slow },
        Protocol { honest: 1, stands_still: true, ahead: 1, ..slow },
        Protocol { honest: 1, stands_still: true, ahead: -1, ..slow },
    ];
    // The last ones take minutes, and more memory than every machine has.
    let all = std::env::var_os("VORSEL_ALL_WORLDS").is_some();
    for world in if all { &worlds[..] } else { &worlds[..11] } {
        let (shown, thief) = (format!("{world:?}"), world.thief);
        let begun = std::time::Instant::now();
        let checker = world.checker().threads(2).finish_when(HasDiscoveries::AnyFailures).spawn_dfs().join();
        let states = checker.unique_state_count();
        println!("{shown}: {states} states in {:.0} s", begun.elapsed().as_secs_f64());
        for (property, path) in checker.discoveries() {
            assert!(WANTED.contains(&property), "{property}: {:#?}", told(path));
        }
        assert!(checker.discovery("every generation is lived through").is_some());
        assert_eq!(checker.discovery("a thief ends the session").is_some(), thief);
        assert!(states > 50_000, "{states} states");
    }
}

#[test]
fn an_algorithm_broken_on_purpose_is_found_out() {
    let (outside, honest) = ("none renews outside the window of its token", "who is honest is not signed out");
    for (broken, property, thief) in [
        (Broken::NoCompareAndSwap, "never two live generations", true),
        (Broken::WindowWithoutEnd, outside, true),
        (Broken::OtherSuccessor, "one successor for one token", true),
        (Broken::EndNotChecked, "none renews after the end", true),
        (Broken::BeginsWithTheRequest, honest, false),
        (Broken::ArrivalsForgotten, honest, false),
        (Broken::AnswersForgotten, outside, true),
        (Broken::SilencesForgotten, honest, false),
        (Broken::LostIsUnknown, "who holds the last token goes on, whatever was lost", false),
        (Broken::EndsForgotten, "none renews where the end is known, whatever was lost", false),
        (Broken::ClockNotMeasured, honest, false),
    ] {
        let stands_still = broken == Broken::SilencesForgotten;
        let fails_over = matches!(broken, Broken::LostIsUnknown | Broken::EndsForgotten);
        let usual = Protocol {
            broken,
            honest: 2,
            thief,
            last_generation: 1,
            is_slow: true,
            give_ups: 1,
            stands_still,
            fails_over,
            loses_ends: broken == Broken::EndsForgotten,
            ahead: Tick::from(broken == Broken::ClockNotMeasured),
        };
        // What is lost has to be presented before it is seen to be.
        let world =
            if fails_over { Protocol { last_generation: 2, is_slow: false, give_ups: 0, ..usual } } else { usual };
        let checker = world.checker().threads(2).finish_when(HasDiscoveries::AllOf([property].into()));
        let checker = checker.spawn_bfs().join();
        let found = checker.discovery(property);
        assert!(found.is_some(), "{broken:?} was not found");
        println!(
            "{broken:?}: {} steps to a world in which it is not true that {property}",
            found.expect("one").into_actions().len()
        );
    }
}
