//! What a host says of itself at the carrier, and when.

use super::carrier::{Carrier, Shelf, Told};
use super::member::Body;
use super::news::News;
use super::order::{self, Numbered, Order};
use super::question::Heard;
use super::spread::spread;
use super::standing::Standing;
use super::taken::Taken;
use super::trust::Trust;
use crate::Failure;
use crate::vocabulary as say;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::mpsc::Sender;
use std::time::{Duration, Instant};

/// So long it is slept at a time.
const SHORT: Duration = Duration::from_millis(20);
const SOON: Duration = Duration::from_secs(1);
/// How often it is looked at the carrier.
const LOOK: Duration = Duration::from_secs(5);
/// Where it tells of what is new by itself, it is looked only so often.
const LOOK_ANYWAY: Duration = Duration::from_secs(60);
/// All hear of it at the same time, and look within this.
const AT_ONCE: Duration = Duration::from_secs(3);
/// Where the carrier is not reached, or something was refused, it is tried again after so long.
const AGAIN: Duration = Duration::from_secs(20);
/// Where that fails again and again, after so many times double.
const MORE: u32 = 2;
/// So often a host says that it stands as it did.
pub(super) const ANYWAY: Duration = Duration::from_secs(60);
/// Where a carrier is told only that it is still there, so often it says how it stands though nothing has changed.
const IN_FULL: Duration = Duration::from_secs(110);
/// It has so long for it before it counts as silent.
pub(super) const PATIENCE: u64 = 180;

/// A member of a fleet that stays.
struct Attending<B> {
    body: B,
    trust: Trust,
    /// Spoken to all the time: to begin anew every time is what costs a store most.
    carrier: Option<Box<dyn Carrier + Send>>,
    /// The last order that was read.
    order: Option<Numbered>,
    /// What the carrier tells by itself, if it does.
    news: News,
    /// When the carrier was asked last; `None` if it has to be.
    asked: Option<Instant>,
    /// The last question that was looked at, and the last that was heard since.
    heard: Heard,
    question: Option<(u64, Vec<u8>)>,
    look: Instant,
    /// How often it failed, one time after the other.
    failed: u32,
    said: Option<Said>,
    /// When it is listened anew to what the carrier tells by itself.
    anew: Option<Instant>,
}

/// How a host last said that it stands.
struct Said {
    standing: Standing,
    /// When that was.
    at: Instant,
    /// When it last said that it stands so, or that it is still there.
    again: Instant,
}

/// Takes what a member is told to, and says how it stands, until that is `over`; hands over what happened.
pub(super) fn stay(
    body: impl Body,
    trust: Trust,
    over: &AtomicBool,
    to: &Sender<Result<Taken, Failure>>,
) {
    let mut attending = Attending::of(body, trust);
    while !over.load(Ordering::Relaxed) {
        if attending.anew.take_if(|it| *it <= Instant::now()).is_some() {
            attending.news = News::of(attending.trust.carrier.clone());
        }
        let happened = attending.see_to().transpose();
        // Whoever no longer listens ends it.
        if happened.is_some_and(|it| to.send(it).is_err()) {
            return;
        }
        let told = attending.news.within(attending.next().clamp(SHORT, SOON));
        if let Some(told) = told {
            attending.hear(told);
        }
    }
}

impl<B: Body> Attending<B> {
    fn of(body: B, trust: Trust) -> Self {
        let look = Instant::now() + spread(LOOK);
        let news = News::of(trust.carrier.clone());
        let (carrier, order, asked, said, anew) = (None, None, None, None, None);
        let (heard, question, failed) = (Heard::default(), None, 0);
        Self { body, trust, carrier, order, news, asked, heard, question, look, failed, said, anew }
    }

    /// Hears what the carrier tells by itself.
    fn hear(&mut self, told: Vec<Told>) {
        if told.is_empty() {
            (self.asked, self.look) = (None, Instant::now() + spread(4 * AT_ONCE));
        }
        for it in told {
            let order = serde_json::from_slice::<Order>(&it.bytes);
            // The highest number counts: one that is put below it later changes nothing.
            // Once it was looked, none is known to be there, if that is so.
            let none = self.asked.map(|_| 0);
            let known = self.order.as_ref().map(|it| it.0).or(none);
            match (it.shelf, order) {
                (Shelf::Orders, _) if known.is_some_and(|known| it.number <= known) => {}
                (Shelf::Orders, Ok(order)) if known.is_some() => {
                    self.takes_its_time(&order);
                    self.order = Some((it.number, order));
                }
                (Shelf::Questions, _) => self.question = Some((it.number, it.bytes)),
                // Whatever it is, it is read once more before anything is done.
                _ => (self.asked, self.look) = (None, Instant::now() + spread(4 * AT_ONCE)),
            }
        }
    }

    /// Whether this host does what is ordered at a moment of its own, a little later.
    fn takes_its_time(&mut self, order: &Order) -> bool {
        let concerns = !order.held && self.body.name().is_ok_and(|it| order.is_for(&it));
        if concerns {
            self.look = Instant::now() + spread(4 * order.within());
        }
        concerns
    }

    /// How soon there is something to do.
    fn next(&self) -> Duration {
        self.look.saturating_duration_since(Instant::now())
    }

    /// Takes what this host is told to, and says how it stands.
    ///
    /// # Errors
    /// [`Failure`] if that cannot be done now.
    fn see_to(&mut self) -> Result<Option<Taken>, Failure> {
        let answers = self.question.is_some() && self.heard.may_answer();
        if !self.next().is_zero() && !answers {
            return Ok(None);
        }
        // A store that has too much to do must not be asked ever more often by all.
        let again = AGAIN * (1 << self.failed.min(MORE));
        self.look = Instant::now() + again + spread(2 * again);
        self.failed += 1;
        let carrier = match self.carrier.take() {
            Some(carrier) => carrier,
            None => self.trust.carrier.open()?,
        };
        let seen = self.see_by(&*carrier, answers);
        if seen.is_ok() || carrier.mends() {
            self.carrier = Some(carrier);
        }
        seen
    }

    fn see_by(&mut self, carrier: &dyn Carrier, answers: bool) -> Result<Option<Taken>, Failure> {
        let before = self.body.refused()?;
        // Where the carrier tells of what is new, it is asked seldom; whatever fails, it is asked anew.
        let asked = self.asked.take();
        let ask = self.news.must_ask() || asked.is_none_or(|it| it.elapsed() >= LOOK_ANYWAY);
        let mut question = None;
        let order = match ask {
            true => {
                let known = [self.order.as_ref().map_or(0, |it| it.0), self.heard.last()];
                // If that fails, nothing can be said there either.
                let [number, last] = carrier.highest_two(known)?;
                question = Some(last.unwrap_or_default());
                let known = self.order.take();
                let was = known.as_ref().map(|it| it.0).or(asked.map(|_| 0));
                let order = order::read_but(carrier, number, known);
                if let Ok(Some((number, found))) = &order
                    && was.is_some_and(|it| it != *number)
                    && self.takes_its_time(found)
                {
                    (self.order, self.asked, self.failed) = (order?, Some(Instant::now()), 0);
                    return Ok(None);
                }
                order
            }
            false => Ok(self.order.take()),
        };
        let took = order.and_then(|order| {
            self.order = order;
            self.body.take(carrier, self.order.as_ref(), &self.trust)
        });
        let had_some = self.said.as_ref().is_some_and(|it| it.standing.in_force.is_some());
        // Whether it went well or not: who looks on wants to know.
        let trouble = took.as_ref().err().map(Failure::line);
        self.say(carrier, trouble)?;
        let fleet = &self.trust.fleet;
        if let Some((number, question)) = self.question.take_if(|_| answers) {
            self.heard.hear(carrier, &mut self.body, fleet, (number, &question))?;
        }
        if let Some(number) = question {
            self.heard.see_to(carrier, &mut self.body, fleet, number)?;
        }
        let taken = took?;
        self.asked = if ask { Some(Instant::now()) } else { asked };
        let news = match taken.done {
            say::Took::Taken => {
                // Connections of before are none for rules that are the first: what is told by one would not arrive.
                if !had_some {
                    let within = self.order.as_ref().map_or(Duration::ZERO, |it| it.1.within());
                    self.anew = Some(Instant::now() + spread(4 * within));
                }
                true
            }
            say::Took::NothingNew => false,
            say::Took::Refused => taken.refused != before,
        };
        self.failed = 0;
        if taken.done != say::Took::Refused {
            self.look = Instant::now() + LOOK + spread(LOOK);
        }
        Ok(news.then_some(taken))
    }

    /// Says how this host stands, if that is news, or was not said for long.
    fn say(&mut self, carrier: &dyn Carrier, trouble: Option<String>) -> Result<(), Failure> {
        let standing = Standing { trouble, ..self.body.standing(carrier, &self.trust.fleet)? };
        let same =
            |it: &Said| Standing { at: standing.at.clone(), ..it.standing.clone() } == standing;
        let now = Instant::now();
        if let Some(said) = self.said.as_mut().filter(|it| same(it)) {
            if said.again.elapsed() < ANYWAY {
                return Ok(());
            }
            if said.at.elapsed() < IN_FULL && carrier.stays(&standing.host)? {
                said.again = now;
                return Ok(());
            }
        }
        let word = serde_json::to_vec_pretty(&standing).unwrap_or_default();
        carrier.tell(&standing.host, &word)?;
        self.said = Some(Said { standing, at: now, again: now });
        Ok(())
    }
}
