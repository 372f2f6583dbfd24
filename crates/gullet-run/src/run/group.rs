//! Applications that belong together: entered in order, captured while all of them are held, left in reverse.
//!
//! Each run goes on by itself, on a thread of its own, and waits at three places for the others: before it looks at its
//! application, when it is held, and before it leaves. A run that ends early, for whatever reason, never lets the others wait.

use std::sync::{Condvar, Mutex, MutexGuard, PoisonError};
use std::time::Duration;

/// How long is waited before it is looked again whether it is time to stop.
const TICK: Duration = Duration::from_millis(20);

/// How far a run is.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, PartialOrd, Ord)]
pub(crate) enum GroupStage {
    /// It has begun.
    #[default]
    Begun,
    /// Everything that comes before the hold is done.
    Ready,
    /// Its application is being entered.
    Entering,
    /// Its application is held.
    Held,
    /// Its parts are secured.
    CapturedPart,
    /// Its application is released.
    Left,
    /// It is over.
    Over,
}

/// A group of runs that wait for each other.
#[derive(Debug)]
pub struct Group {
    names: Vec<String>,
    stages: Mutex<Vec<(GroupStage, bool)>>,
    changed: Condvar,
}

/// One run of a group. When it is dropped the run is over.
#[derive(Debug)]
pub struct Member<'g> {
    group: &'g Group,
    number: usize,
}

/// One application of the group was not held and will not be, or was left already, so that nothing fits together any more.
#[derive(Debug)]
pub(crate) struct MissedHold {
    /// The name of the application.
    pub(crate) app: String,
}

impl Group {
    /// A group of runs of these applications, in the order in which they are entered.
    pub fn new(apps: &[String]) -> Self {
        let stages = Mutex::new(vec![(GroupStage::Begun, false); apps.len()]);
        Self { names: apps.to_vec(), stages, changed: Condvar::new() }
    }

    /// The run of each application, in order.
    pub fn members(&self) -> impl Iterator<Item = Member<'_>> {
        (0..self.names.len()).map(|number| Member { group: self, number })
    }

    fn stages(&self) -> MutexGuard<'_, Vec<(GroupStage, bool)>> {
        self.stages.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

impl Member<'_> {
    /// Says how far this run is; it never goes back.
    pub(crate) fn reach(&self, stage: GroupStage) {
        let mut stages = self.group.stages();
        let own = &mut stages[self.number];
        own.1 |= stage == GroupStage::Held;
        own.0 = own.0.max(stage);
        self.group.changed.notify_all();
    }

    /// Waits until every run that `whose` names has come to `stage`, or it is time to stop.
    ///
    /// # Errors
    /// Where there is a `too_late`: the application that was not held and will not be, or that has come to it already.
    fn wait(
        &self,
        stage: GroupStage,
        too_late: Option<GroupStage>,
        whose: impl Fn(usize) -> bool,
        over: &dyn Fn() -> bool,
    ) -> Result<(), MissedHold> {
        let mut stages = self.group.stages();
        loop {
            let others = || stages.iter().enumerate().filter(|(number, _)| *number != self.number);
            let is_lost = |(_, (reached, held)): &(usize, &(GroupStage, bool))| {
                too_late.is_some_and(|too_late| *reached > GroupStage::Held && !held || *reached >= too_late)
            };
            if let Some((number, _)) = others().find(is_lost) {
                return Err(MissedHold { app: self.group.names[number].clone() });
            }
            if others().filter(|(number, _)| whose(*number)).all(|(_, (reached, _))| *reached >= stage) || over() {
                return Ok(());
            }
            stages =
                self.group.changed.wait_timeout(stages, TICK).map_or_else(|e| e.into_inner().0, |(stages, _)| stages);
        }
    }

    /// Before the application is looked at: waits until all are ready, and all before it are held. Nobody can be secured
    /// before this one is held, unless it gave up waiting.
    pub(crate) fn wait_for_turn(&self, over: &dyn Fn() -> bool) -> Result<(), MissedHold> {
        if self.group.stages()[self.number].0 >= GroupStage::Entering {
            return Ok(());
        }
        self.reach(GroupStage::Ready);
        self.wait(GroupStage::Ready, Some(GroupStage::CapturedPart), |_| true, over)?;
        self.wait(GroupStage::Held, Some(GroupStage::CapturedPart), |number| number < self.number, over)?;
        self.reach(GroupStage::Entering);
        Ok(())
    }

    /// When it is held: waits until all are. Nobody can have left before this one is secured, unless it gave up waiting.
    pub(crate) fn wait_for_all(&self, over: &dyn Fn() -> bool) -> Result<(), MissedHold> {
        self.reach(GroupStage::Held);
        self.wait(GroupStage::Held, Some(GroupStage::Left), |_| true, over)
    }

    /// Before it is left: waits until all are secured, and all after it that were entered are left. Nothing is a reason not to
    /// leave.
    pub(crate) fn wait_to_leave(&self, over: &dyn Fn() -> bool) {
        // One that never was held says so by that, and is waited for no longer.
        self.reach(GroupStage::CapturedPart);
        if self.group.stages()[self.number].1 {
            let _ = self.wait(GroupStage::CapturedPart, Some(GroupStage::Over), |_| true, over);
        }
        let entered: Vec<bool> = self.group.stages().iter().map(|(stage, _)| *stage >= GroupStage::Entering).collect();
        let _ = self.wait(GroupStage::Left, None, |number| number > self.number && entered[number], over);
    }
}

impl Drop for Member<'_> {
    fn drop(&mut self) {
        self.reach(GroupStage::Over);
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    /// Runs a group whose members fail where `fails` says (0: not at all), and gives what happened in order.
    fn happened(fails: &[u8]) -> Vec<(usize, &'static str)> {
        let names: Vec<String> = (0..fails.len()).map(|number| format!("app{number}")).collect();
        let group = Group::new(&names);
        let log = Mutex::new(Vec::new());
        let say = |number, what| log.lock().unwrap().push((number, what));
        std::thread::scope(|scope| {
            for (number, member) in group.members().enumerate() {
                let (fails, say) = (fails[number], &say);
                scope.spawn(move || {
                    let never = || false;
                    if fails == 1 || member.wait_for_turn(&never).is_err() {
                        return;
                    }
                    say(number, "enter");
                    let held = fails != 2 && member.wait_for_all(&never).is_ok();
                    if held && fails != 3 {
                        say(number, "secure");
                    }
                    member.wait_to_leave(&never);
                    say(number, "leave");
                    member.reach(GroupStage::Left);
                });
            }
        });
        log.into_inner().unwrap()
    }

    #[test]
    fn they_are_entered_in_order_secured_while_all_are_held_and_left_in_reverse() {
        let log = happened(&[0, 0, 0]);
        let of = |what: &str| log.iter().filter(|(_, w)| *w == what).map(|(number, _)| *number).collect::<Vec<_>>();
        assert_eq!((of("enter"), of("leave")), (vec![0, 1, 2], vec![2, 1, 0]));
        let at = |what: &str| log.iter().position(|(_, w)| *w == what).unwrap();
        assert!(log.iter().rposition(|(_, w)| *w == "enter").unwrap() < at("secure"));
        assert!(log.iter().rposition(|(_, w)| *w == "secure").unwrap() < at("leave"));
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(60))]
        #[test]
        fn whatever_fails_nobody_waits_for_ever_and_nothing_is_secured_unless_all_are_held(
            fails in proptest::collection::vec(0u8..4, 2..5),
        ) {
            let log = happened(&fails);
            let secured = log.iter().filter(|(_, what)| *what == "secure").count();
            if fails.contains(&1) {
                prop_assert!(log.is_empty(), "{:?}", log);
            }
            if fails.contains(&2) {
                prop_assert_eq!(secured, 0);
            }
            let of = |what: &str| log.iter().filter(|(_, w)| *w == what).map(|(number, _)| *number).collect::<Vec<_>>();
            let (entered, mut left) = (of("enter"), of("leave"));
            left.reverse();
            prop_assert_eq!(entered, left);
        }
    }
}
