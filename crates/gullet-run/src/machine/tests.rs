//! The machine over every sequence of replies with up to two faults, each fault being a bad reply or the world
//! intervening before any task.

use super::*;

/// What happens instead of everything going well, at the n-th task.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Fault {
    BadReply,
    Warned,
    Interrupt,
    LoseHold,
    InterruptDuring,
    LoseHoldDuring,
}

const FAULTS: [Fault; 6] =
    [Fault::BadReply, Fault::Warned, Fault::Interrupt, Fault::LoseHold, Fault::InterruptDuring, Fault::LoseHoldDuring];

struct Trace {
    tasks: Vec<(Task, Reply)>,
    machine: Machine,
    faults: Vec<(usize, Fault, bool)>,
}

fn good(task: Task) -> Reply {
    if matches!(task, Task::Look(_)) { Reply::Serving } else { Reply::Yes }
}

fn play(shape: &Shape, faults: &[(usize, Fault)]) -> Trace {
    play_with(shape, faults, None)
}

/// The same, where one task has another reply than the good one.
fn play_with(shape: &Shape, faults: &[(usize, Fault)], other: Option<(Task, Reply)>) -> Trace {
    let mut machine = Machine::new(shape.clone());
    let mut tasks = Vec::new();
    let mut hit = Vec::new();
    loop {
        let number = tasks.len();
        let here = || faults.iter().filter(move |(at, _)| *at == number).map(|(_, fault)| *fault);
        // The driver looks outside before it asks for a task, and again when the task is done.
        let settled = machine.is_settled();
        for fault in here() {
            match fault {
                Fault::Interrupt => machine.interrupt(),
                Fault::LoseHold => machine.lose_hold(),
                _ => {}
            }
        }
        let Some(task) = machine.next_task() else { break };
        assert!(number < 200, "the machine does not end: {tasks:?}");
        let mut reply = other.filter(|(of, _)| *of == task).map_or_else(|| good(task), |(_, reply)| reply);
        for fault in here() {
            hit.push((number, fault, settled));
            match fault {
                Fault::BadReply => reply = Reply::No,
                Fault::Warned => reply = Reply::Warned,
                Fault::InterruptDuring => machine.interrupt(),
                Fault::LoseHoldDuring => machine.lose_hold(),
                Fault::Interrupt | Fault::LoseHold => {}
            }
        }
        machine.reply(task, reply);
        tasks.push((task, reply));
    }
    Trace { tasks, machine, faults: hit }
}

/// Promise 1 as far as it is the machine's: every step that was entered is left, in reverse order, once.
fn every_entered_step_is_left(trace: &Trace) {
    let mut open = Vec::new();
    for (task, _) in &trace.tasks {
        match task {
            Task::Enter(step) => open.push(*step),
            Task::Leave(step) => assert_eq!(open.pop(), Some(*step), "{:?}", trace.tasks),
            Task::Store(_) | Task::Commit | Task::Finish => assert!(open.is_empty(), "{:?}", trace.tasks),
            _ => {}
        }
    }
    assert!(open.is_empty() && !trace.machine.holds(), "{:?}", trace.tasks);
}

/// Promise 2: whole means all of it, from one proven hold, durable, read back, recorded.
fn whole_is_whole(shape: &Shape, trace: &Trace) {
    let at = |wanted: Task| trace.tasks.iter().position(|(task, reply)| *task == wanted && *reply != Reply::No);
    if !trace.machine.outcome().is_whole() {
        return;
    }
    assert!(!trace.machine.is_void());
    assert!((0..shape.parts.len()).all(|part| at(Task::Capture(part)).is_some()), "all captured: {:?}", trace.tasks);
    let in_hold = |part: &usize| shape.steps.is_empty() || shape.parts[*part].when == When::Held;
    let last_capture = (0..shape.parts.len()).filter(in_hold).map(|part| at(Task::Capture(part))).max().flatten();
    let first_capture = (0..shape.parts.len()).filter(in_hold).filter_map(|part| at(Task::Capture(part))).min();
    let first_leave = trace.tasks.iter().position(|(task, _)| matches!(task, Task::Leave(_)));
    for (step, shape) in shape.steps.iter().enumerate() {
        if shape.proves {
            let proven = at(Task::Prove(step)).expect("proven");
            assert!(first_capture.is_none_or(|first| proven < first), "{:?}", trace.tasks);
            let again = at(Task::ProveAgain(step)).expect("proven again");
            assert!(Some(again) > last_capture && Some(again) < first_leave, "{:?}", trace.tasks);
        } else {
            assert_eq!(trace.machine.outcome(), Outcome::Warnings);
        }
    }
    if shape.snapshot && !shape.steps.is_empty() {
        assert!(at(Task::Snapshot) < first_capture && at(Task::Snapshot).is_some(), "{:?}", trace.tasks);
    }
    let end = [Task::Finish, Task::ReadBack, Task::Commit].map(|task| at(task).expect("done and done well"));
    assert!(end.is_sorted());
    let intervened = |fault: &Fault| !matches!(fault, Fault::BadReply | Fault::Warned);
    let lost = |(number, fault, settled): &(usize, Fault, bool)| {
        let in_hold = !shape.steps.is_empty()
            && match trace.tasks[*number].0 {
                Task::Capture(part) => shape.parts[part].when == When::Held,
                task => matches!(
                    task,
                    Task::Enter(_)
                        | Task::Settle(_)
                        | Task::Prove(_)
                        | Task::Snapshot
                        | Task::Quiet(_)
                        | Task::ProveAgain(_)
                        | Task::Hooks(HookMoment::Held)
                ),
            };
        let interrupted = matches!(fault, Fault::Interrupt | Fault::InterruptDuring) && !settled;
        intervened(fault) && (interrupted || (in_hold && trace.tasks[*number].0 != Task::Enter(0)))
    };
    assert!(!trace.faults.iter().any(lost), "{:?} {:?}", trace.faults, trace.tasks);
}

fn no_capture_without_all_steps(shape: &Shape, trace: &Trace) {
    let mut proven = 0;
    for (task, reply) in &trace.tasks {
        match task {
            Task::Enter(step) if !shape.steps[*step].proves && *reply != Reply::No => proven += 1,
            Task::Prove(_) if *reply != Reply::No => proven += 1,
            Task::Capture(part) => match shape.parts[*part].when {
                When::Before if !shape.steps.is_empty() => assert_eq!(proven, 0, "{:?}", trace.tasks),
                When::Before | When::Held => assert_eq!(proven, shape.steps.len(), "{:?}", trace.tasks),
                When::After => assert!(
                    !trace
                        .tasks
                        .iter()
                        .rev()
                        .take_while(|(t, _)| t != task)
                        .any(|(task, _)| { matches!(task, Task::Leave(_) | Task::ProveLeft(_)) })
                ),
            },
            _ => {}
        }
    }
}

fn clean_up_only_after_success(trace: &Trace) {
    let position = |wanted| trace.tasks.iter().position(|(task, _)| *task == wanted);
    if let Some(succeeded) = position(Task::Hooks(HookMoment::Succeeded)) {
        assert!(position(Task::Commit).is_some_and(|commit| commit < succeeded));
        assert_eq!(position(Task::Hooks(HookMoment::Failed)), None);
        assert!(trace.machine.outcome() <= Outcome::Warnings, "{:?}", trace.tasks);
    }
}

fn shapes() -> Vec<Shape> {
    let step = StepShape { settles: true, proves: true, proves_left: true, goes_on_if_held: false };
    let bare = StepShape::default();
    let may = PartShape::default();
    let must = PartShape { must: true, ..may };
    let warm = PartShape { warm: true, ..may };
    let [before, after] = [When::Before, When::After].map(|when| PartShape { when, ..must });
    vec![
        Shape { steps: vec![step, step], parts: vec![must, may], ..Shape::default() },
        Shape { steps: vec![step], parts: vec![may, may], partial: true, ..Shape::default() },
        Shape { steps: vec![bare, step], parts: vec![may], ..Shape::default() },
        Shape { steps: vec![], parts: vec![must, may], ..Shape::default() },
        Shape { steps: vec![step], parts: vec![before, warm, after], snapshot: true, ..Shape::default() },
        Shape { steps: vec![], parts: vec![before, warm, after], snapshot: true, ..Shape::default() },
    ]
}

#[test]
fn promises_hold_over_all_single_faults_and_pairs() {
    let mut played = 0;
    for shape in shapes() {
        let length = play(&shape, &[]).tasks.len();
        let singles: Vec<(usize, Fault)> = (0..length + 2).flat_map(|at| FAULTS.map(|fault| (at, fault))).collect();
        let pairs = singles.iter().flat_map(|a| singles.iter().map(move |b| vec![*a, *b]));
        for faults in singles.iter().map(|a| vec![*a]).chain(pairs) {
            let trace = play(&shape, &faults);
            every_entered_step_is_left(&trace);
            whole_is_whole(&shape, &trace);
            no_capture_without_all_steps(&shape, &trace);
            clean_up_only_after_success(&trace);
            let commits = trace.tasks.iter().filter(|(task, _)| *task == Task::Commit).count();
            assert_eq!(commits, 1, "a run has one record: {:?}", trace.tasks);
            played += 1;
        }
    }
    assert!(played > 20_000, "only {played} runs were played");
}

#[test]
fn a_good_run_does_everything_in_order() {
    let trace = play(&shapes()[0], &[]);
    let tasks: Vec<Task> = trace.tasks.iter().map(|(task, _)| *task).collect();
    let expected = [
        Task::Preflight,
        Task::Hooks(HookMoment::Before),
        Task::Ready,
        Task::Look(0),
        Task::Look(1),
        Task::Enter(0),
        Task::Settle(0),
        Task::Prove(0),
        Task::Enter(1),
        Task::Settle(1),
        Task::Prove(1),
        Task::Hooks(HookMoment::Held),
        Task::Capture(0),
        Task::Capture(1),
        Task::Quiet(0),
        Task::Quiet(1),
        Task::ProveAgain(0),
        Task::ProveAgain(1),
        Task::Leave(1),
        Task::ProveLeft(1),
        Task::Leave(0),
        Task::ProveLeft(0),
        Task::Hooks(HookMoment::Released),
        Task::Store(0),
        Task::Store(1),
        Task::Clear,
        Task::Finish,
        Task::ReadBack,
        Task::Commit,
        Task::Hooks(HookMoment::Succeeded),
        Task::Hooks(HookMoment::Finished),
    ];
    assert_eq!(tasks, expected);
    assert_eq!(trace.machine.outcome(), Outcome::Complete);
}

/// Plays with one reply given to one task.
fn with_reply(shape: &Shape, to: Task, reply: Reply) -> Trace {
    let mut machine = Machine::new(shape.clone());
    let mut tasks = Vec::new();
    while let Some(task) = machine.next_task() {
        let reply = if task == to { reply } else { good(task) };
        machine.reply(task, reply);
        tasks.push((task, reply));
    }
    Trace { tasks, machine, faults: Vec::new() }
}

#[test]
fn each_fault_has_its_outcome() {
    let shape = &shapes()[0];
    for (task, reply, outcome) in [
        (Task::Preflight, Reply::No, Outcome::Refused),
        (Task::Hooks(HookMoment::Before), Reply::No, Outcome::Failed),
        (Task::Ready, Reply::No, Outcome::Failed),
        (Task::Look(1), Reply::Held, Outcome::Refused),
        (Task::Look(0), Reply::Unknown, Outcome::Refused),
        (Task::Enter(1), Reply::No, Outcome::Failed),
        (Task::Prove(1), Reply::No, Outcome::Failed),
        (Task::Capture(0), Reply::No, Outcome::Failed),
        (Task::Capture(1), Reply::No, Outcome::Incomplete),
        (Task::Quiet(0), Reply::Warned, Outcome::Warnings),
        (Task::ProveAgain(0), Reply::No, Outcome::Failed),
        (Task::Leave(0), Reply::No, Outcome::Warnings),
        (Task::ProveLeft(1), Reply::No, Outcome::NotReleased),
        (Task::Store(1), Reply::No, Outcome::Incomplete),
        (Task::Clear, Reply::No, Outcome::Warnings),
        (Task::Finish, Reply::No, Outcome::Failed),
        (Task::ReadBack, Reply::No, Outcome::Failed),
        (Task::Commit, Reply::No, Outcome::Failed),
        (Task::Hooks(HookMoment::Succeeded), Reply::No, Outcome::Warnings),
    ] {
        assert_eq!(with_reply(shape, task, reply).machine.outcome(), outcome, "{task:?} {reply:?}");
    }
}

#[test]
fn found_held_and_going_on_it_is_neither_entered_nor_left_but_proven() {
    let mut shape = shapes()[0].clone();
    shape.steps[0].goes_on_if_held = true;
    let trace = with_reply(&shape, Task::Look(0), Reply::Held);
    let did = |task| trace.tasks.iter().any(|(done, _)| *done == task);
    assert!(!did(Task::Enter(0)) && !did(Task::Leave(0)));
    assert!(did(Task::Prove(0)) && did(Task::ProveAgain(0)) && did(Task::Enter(1)) && did(Task::Leave(1)));
    assert_eq!(trace.machine.outcome(), Outcome::Complete);
}

#[test]
fn a_step_that_cannot_be_left_does_not_stop_the_others() {
    let trace = with_reply(&shapes()[0], Task::ProveLeft(1), Reply::No);
    assert!(trace.tasks.iter().any(|(task, _)| *task == Task::Leave(0)));
    assert!(!trace.tasks.iter().any(|(task, _)| *task == Task::Hooks(HookMoment::Released)));
    assert!(trace.tasks.iter().any(|(task, _)| *task == Task::Commit));
}

#[test]
fn a_refused_run_tells_that_it_failed_and_that_it_is_over_and_runs_no_other_hook() {
    let trace = with_reply(&shapes()[0], Task::Preflight, Reply::No);
    let hooks = trace.tasks.iter().filter(|(task, _)| matches!(task, Task::Hooks(_))).map(|(task, _)| *task);
    assert_eq!(hooks.collect::<Vec<_>>(), [Task::Hooks(HookMoment::Failed), Task::Hooks(HookMoment::Finished)]);
}

/// Promise 1, the rest of it: what is left and can be asked whether it serves, is asked, whatever comes in between.
#[test]
fn every_leaving_that_can_be_checked_is_checked() {
    for shape in shapes() {
        let length = play(&shape, &[]).tasks.len();
        let singles: Vec<(usize, Fault)> = (0..length + 2).flat_map(|at| FAULTS.map(|fault| (at, fault))).collect();
        let pairs = singles.iter().flat_map(|a| singles.iter().map(move |b| vec![*a, *b]));
        for faults in singles.iter().map(|a| vec![*a]).chain(pairs) {
            let trace = play(&shape, &faults);
            for (number, (task, _)) in trace.tasks.iter().enumerate() {
                let Task::Leave(step) = task else { continue };
                let next = trace.tasks.get(number + 1).map(|(task, _)| *task);
                if shape.steps[*step].proves_left {
                    assert_eq!(next, Some(Task::ProveLeft(*step)), "{faults:?} {:?}", trace.tasks);
                }
            }
            let after = trace.tasks.iter().skip_while(|(task, _)| !matches!(task, Task::Leave(_)));
            let void = trace.machine.is_void();
            for (task, _) in after {
                assert!(!(void && interrupted_before(&trace, *task) && is_work(*task)), "{faults:?} {:?}", trace.tasks);
            }
        }
    }
}

/// Whether a task captures or stores.
fn is_work(task: Task) -> bool {
    matches!(task, Task::Capture(_) | Task::Store(_) | Task::Finish | Task::ReadBack)
}

/// Whether the run was interrupted before it came to a task.
fn interrupted_before(trace: &Trace, task: Task) -> bool {
    let at = trace.tasks.iter().position(|(done, _)| *done == task).unwrap_or(usize::MAX);
    let interrupts = |fault: &Fault| matches!(fault, Fault::Interrupt | Fault::InterruptDuring);
    trace.faults.iter().any(|(number, fault, settled)| interrupts(fault) && !settled && *number < at)
}

#[test]
fn found_held_or_not_known_together_with_any_fault_keeps_the_promises() {
    let mut shape = shapes()[0].clone();
    shape.steps[0].goes_on_if_held = true;
    for reply in [Reply::Held, Reply::Unknown] {
        for step in 0..2 {
            let length = play(&shape, &[]).tasks.len();
            for at in 0..length {
                for fault in FAULTS {
                    let trace = play_with(&shape, &[(at, fault)], Some((Task::Look(step), reply)));
                    every_entered_step_is_left(&trace);
                    clean_up_only_after_success(&trace);
                    let went_on = reply == Reply::Held && step == 0;
                    if !went_on && trace.tasks.contains(&(Task::Look(step), reply)) {
                        assert!(
                            !trace.tasks.iter().any(|(task, _)| matches!(task, Task::Enter(_))),
                            "{:?}",
                            trace.tasks
                        );
                        assert!(!trace.machine.outcome().is_whole());
                    }
                    let left = trace.tasks.iter().any(|(task, _)| *task == Task::Leave(0));
                    let went_on = went_on && trace.tasks.contains(&(Task::Look(step), reply));
                    assert!(!(went_on && left), "what was found held is left as it was found: {:?}", trace.tasks);
                }
            }
        }
    }
}

#[test]
fn parts_are_captured_before_in_and_after_the_hold() {
    let shape = &shapes()[4];
    let trace = play(shape, &[]);
    let tasks: Vec<Task> = trace.tasks.iter().map(|(task, _)| *task).collect();
    let at = |wanted| tasks.iter().position(|task| *task == wanted).unwrap();
    let order = [
        at(Task::Ready),
        at(Task::Warm(1)),
        at(Task::Capture(0)),
        at(Task::Enter(0)),
        at(Task::Snapshot),
        at(Task::Capture(1)),
        at(Task::Leave(0)),
        at(Task::Capture(2)),
        at(Task::Store(0)),
        at(Task::Clear),
    ];
    assert!(order.is_sorted(), "{tasks:?}");
    assert!(!tasks.contains(&Task::Quiet(0)) && tasks.contains(&Task::Quiet(1)));
    assert_eq!(with_reply(shape, Task::Warm(1), Reply::No).machine.outcome(), Outcome::Warnings);
    assert_eq!(with_reply(shape, Task::Snapshot, Reply::No).machine.outcome(), Outcome::Failed);
    assert_eq!(with_reply(shape, Task::Capture(0), Reply::No).machine.outcome(), Outcome::Failed);
}
