//! The sequence over every sequence of replies with up to two faults, each fault being a bad reply or the world
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
    tasks: Vec<(Task, TaskResult)>,
    sequence: Sequence,
    faults: Vec<(usize, Fault, bool)>,
}

fn play(shape: &Shape, faults: &[(usize, Fault)]) -> Trace {
    play_with(shape, faults, None)
}

/// The same, where one task has another reply than the good one.
fn play_with(shape: &Shape, faults: &[(usize, Fault)], other: Option<(Task, TaskResult)>) -> Trace {
    let mut sequence = Sequence::new(shape.clone());
    let mut tasks = Vec::new();
    let mut hit = Vec::new();
    loop {
        let number = tasks.len();
        let here = || faults.iter().filter(move |(at, _)| *at == number).map(|(_, fault)| *fault);
        // The driver looks outside before it asks for a task, and again when the task is done.
        let settled = sequence.is_settled();
        for fault in here() {
            match fault {
                Fault::Interrupt => sequence.interrupt(),
                Fault::LoseHold => sequence.lose_hold(),
                _ => {}
            }
        }
        let Some(task) = sequence.next_task() else { break };
        assert!(number < 200, "the sequence does not end: {tasks:?}");
        let mut reply = other.filter(|(of, _)| *of == task).map_or_else(|| task.good_result(), |(_, reply)| reply);
        for fault in here() {
            hit.push((number, fault, settled));
            match fault {
                Fault::BadReply => reply = TaskResult::No,
                Fault::Warned => reply = TaskResult::Warned,
                Fault::InterruptDuring => sequence.interrupt(),
                Fault::LoseHoldDuring => sequence.lose_hold(),
                Fault::Interrupt | Fault::LoseHold => {}
            }
        }
        sequence.reply(task, reply);
        tasks.push((task, reply));
    }
    Trace { tasks, sequence, faults: hit }
}

/// Promise 1 as far as it is the sequence's: every step that was entered is left, in reverse order, once.
fn every_entered_step_is_left(trace: &Trace) {
    let mut open = Vec::new();
    for (task, _) in &trace.tasks {
        match task {
            Task::Enter(step) => open.push(*step),
            Task::Release(step) => assert_eq!(open.pop(), Some(*step), "{:?}", trace.tasks),
            Task::Store(_) | Task::Commit | Task::Finish => assert!(open.is_empty(), "{:?}", trace.tasks),
            _ => {}
        }
    }
    assert!(open.is_empty() && !trace.sequence.holds(), "{:?}", trace.tasks);
}

/// Promise 2: whole means all of it, from one proven hold, durable, read back, recorded.
fn whole_is_whole(shape: &Shape, trace: &Trace) {
    let at = |wanted: Task| trace.tasks.iter().position(|(task, reply)| *task == wanted && *reply != TaskResult::No);
    if !trace.sequence.outcome().is_whole() {
        return;
    }
    assert!(!trace.sequence.is_void());
    assert!((0..shape.parts.len()).all(|part| at(Task::Capture(part)).is_some()), "all captured: {:?}", trace.tasks);
    let in_hold = |part: &usize| shape.steps.is_empty() || shape.parts[*part].when == When::Held;
    let last_capture = (0..shape.parts.len()).filter(in_hold).map(|part| at(Task::Capture(part))).max().flatten();
    let first_capture = (0..shape.parts.len()).filter(in_hold).filter_map(|part| at(Task::Capture(part))).min();
    let first_leave = trace.tasks.iter().position(|(task, _)| matches!(task, Task::Release(_)));
    for (step, shape) in shape.steps.iter().enumerate() {
        if shape.proves {
            let proven = at(Task::Prove(step)).expect("proven");
            assert!(first_capture.is_none_or(|first| proven < first), "{:?}", trace.tasks);
            let again = at(Task::ProveAgain(step)).expect("proven again");
            assert!(Some(again) > last_capture && Some(again) < first_leave, "{:?}", trace.tasks);
        } else {
            assert_eq!(trace.sequence.outcome(), Outcome::Warnings);
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
                        | Task::Drain(_)
                        | Task::Prove(_)
                        | Task::Snapshot
                        | Task::CheckNoWrites(_)
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
            Task::Enter(step) if !shape.steps[*step].proves && *reply != TaskResult::No => proven += 1,
            Task::Prove(_) if *reply != TaskResult::No => proven += 1,
            Task::Capture(part) => match shape.parts[*part].when {
                When::Before if !shape.steps.is_empty() => assert_eq!(proven, 0, "{:?}", trace.tasks),
                When::Before | When::Held => assert_eq!(proven, shape.steps.len(), "{:?}", trace.tasks),
                When::After => assert!(
                    !trace
                        .tasks
                        .iter()
                        .rev()
                        .take_while(|(t, _)| t != task)
                        .any(|(task, _)| { matches!(task, Task::Release(_) | Task::ProveReleased(_)) })
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
        assert!(trace.sequence.outcome() <= Outcome::Warnings, "{:?}", trace.tasks);
    }
}

fn shapes() -> Vec<Shape> {
    let step = StepShape { settles: true, proves: true, proves_left: true, goes_on_if_held: false };
    let bare = StepShape::default();
    let may = PartShape::default();
    let must = PartShape { required: true, ..may };
    let warm = PartShape { precopy: true, ..may };
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
        Task::Prepare,
        Task::ProbeInitialState(0),
        Task::ProbeInitialState(1),
        Task::Enter(0),
        Task::Drain(0),
        Task::Prove(0),
        Task::Enter(1),
        Task::Drain(1),
        Task::Prove(1),
        Task::Hooks(HookMoment::Held),
        Task::Capture(0),
        Task::Capture(1),
        Task::CheckNoWrites(0),
        Task::CheckNoWrites(1),
        Task::ProveAgain(0),
        Task::ProveAgain(1),
        Task::Release(1),
        Task::ProveReleased(1),
        Task::Release(0),
        Task::ProveReleased(0),
        Task::Hooks(HookMoment::Released),
        Task::Store(0),
        Task::Store(1),
        Task::CleanUp,
        Task::Finish,
        Task::ReadBack,
        Task::Commit,
        Task::Hooks(HookMoment::Succeeded),
        Task::Hooks(HookMoment::Finished),
    ];
    assert_eq!(tasks, expected);
    assert_eq!(trace.sequence.outcome(), Outcome::Complete);
}

/// Plays with one reply given to one task.
fn with_reply(shape: &Shape, to: Task, reply: TaskResult) -> Trace {
    let mut sequence = Sequence::new(shape.clone());
    let mut tasks = Vec::new();
    while let Some(task) = sequence.next_task() {
        let reply = if task == to { reply } else { task.good_result() };
        sequence.reply(task, reply);
        tasks.push((task, reply));
    }
    Trace { tasks, sequence, faults: Vec::new() }
}

#[test]
fn each_fault_has_its_outcome() {
    let shape = &shapes()[0];
    for (task, reply, outcome) in [
        (Task::Preflight, TaskResult::No, Outcome::Refused),
        (Task::Hooks(HookMoment::Before), TaskResult::No, Outcome::Failed),
        (Task::Prepare, TaskResult::No, Outcome::Failed),
        (Task::ProbeInitialState(1), TaskResult::Held, Outcome::Refused),
        (Task::ProbeInitialState(0), TaskResult::Unknown, Outcome::Refused),
        (Task::Enter(1), TaskResult::No, Outcome::Failed),
        (Task::Prove(1), TaskResult::No, Outcome::Failed),
        (Task::Capture(0), TaskResult::No, Outcome::Failed),
        (Task::Capture(1), TaskResult::No, Outcome::Incomplete),
        (Task::CheckNoWrites(0), TaskResult::Warned, Outcome::Warnings),
        (Task::ProveAgain(0), TaskResult::No, Outcome::Failed),
        (Task::Release(0), TaskResult::No, Outcome::Warnings),
        (Task::ProveReleased(1), TaskResult::No, Outcome::NotReleased),
        (Task::Store(1), TaskResult::No, Outcome::Incomplete),
        (Task::CleanUp, TaskResult::No, Outcome::Warnings),
        (Task::Finish, TaskResult::No, Outcome::Failed),
        (Task::ReadBack, TaskResult::No, Outcome::Failed),
        (Task::Commit, TaskResult::No, Outcome::Failed),
        (Task::Hooks(HookMoment::Succeeded), TaskResult::No, Outcome::Warnings),
    ] {
        assert_eq!(with_reply(shape, task, reply).sequence.outcome(), outcome, "{task:?} {reply:?}");
    }
}

#[test]
fn found_held_and_going_on_it_is_neither_entered_nor_left_but_proven() {
    let mut shape = shapes()[0].clone();
    shape.steps[0].goes_on_if_held = true;
    let trace = with_reply(&shape, Task::ProbeInitialState(0), TaskResult::Held);
    let did = |task| trace.tasks.iter().any(|(done, _)| *done == task);
    assert!(!did(Task::Enter(0)) && !did(Task::Release(0)));
    assert!(did(Task::Prove(0)) && did(Task::ProveAgain(0)) && did(Task::Enter(1)) && did(Task::Release(1)));
    assert_eq!(trace.sequence.outcome(), Outcome::Complete);
}

#[test]
fn a_step_that_cannot_be_left_does_not_stop_the_others() {
    let trace = with_reply(&shapes()[0], Task::ProveReleased(1), TaskResult::No);
    assert!(trace.tasks.iter().any(|(task, _)| *task == Task::Release(0)));
    assert!(!trace.tasks.iter().any(|(task, _)| *task == Task::Hooks(HookMoment::Released)));
    assert!(trace.tasks.iter().any(|(task, _)| *task == Task::Commit));
}

#[test]
fn a_refused_run_tells_that_it_failed_and_that_it_is_over_and_runs_no_other_hook() {
    let trace = with_reply(&shapes()[0], Task::Preflight, TaskResult::No);
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
                let Task::Release(step) = task else { continue };
                let next = trace.tasks.get(number + 1).map(|(task, _)| *task);
                if shape.steps[*step].proves_left {
                    assert_eq!(next, Some(Task::ProveReleased(*step)), "{faults:?} {:?}", trace.tasks);
                }
            }
            let after = trace.tasks.iter().skip_while(|(task, _)| !matches!(task, Task::Release(_)));
            let void = trace.sequence.is_void();
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
    for reply in [TaskResult::Held, TaskResult::Unknown] {
        for step in 0..2 {
            let length = play(&shape, &[]).tasks.len();
            for at in 0..length {
                for fault in FAULTS {
                    let trace = play_with(&shape, &[(at, fault)], Some((Task::ProbeInitialState(step), reply)));
                    every_entered_step_is_left(&trace);
                    clean_up_only_after_success(&trace);
                    let went_on = reply == TaskResult::Held && step == 0;
                    if !went_on && trace.tasks.contains(&(Task::ProbeInitialState(step), reply)) {
                        assert!(
                            !trace.tasks.iter().any(|(task, _)| matches!(task, Task::Enter(_))),
                            "{:?}",
                            trace.tasks
                        );
                        assert!(!trace.sequence.outcome().is_whole());
                    }
                    let left = trace.tasks.iter().any(|(task, _)| *task == Task::Release(0));
                    let went_on = went_on && trace.tasks.contains(&(Task::ProbeInitialState(step), reply));
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
        at(Task::Prepare),
        at(Task::Precopy(1)),
        at(Task::Capture(0)),
        at(Task::Enter(0)),
        at(Task::Snapshot),
        at(Task::Capture(1)),
        at(Task::Release(0)),
        at(Task::Capture(2)),
        at(Task::Store(0)),
        at(Task::CleanUp),
    ];
    assert!(order.is_sorted(), "{tasks:?}");
    assert!(!tasks.contains(&Task::CheckNoWrites(0)) && tasks.contains(&Task::CheckNoWrites(1)));
    assert_eq!(with_reply(shape, Task::Precopy(1), TaskResult::No).sequence.outcome(), Outcome::Warnings);
    assert_eq!(with_reply(shape, Task::Snapshot, TaskResult::No).sequence.outcome(), Outcome::Failed);
    assert_eq!(with_reply(shape, Task::Capture(0), TaskResult::No).sequence.outcome(), Outcome::Failed);
}

#[test]
fn an_answer_to_what_was_not_asked_changes_nothing() {
    for shape in shapes() {
        let numbered = [Task::Precopy, Task::ProbeInitialState, Task::Enter, Task::Drain, Task::Prove, Task::Capture];
        let numbered = numbered.into_iter().chain([Task::CheckNoWrites, Task::ProveAgain, Task::Store]);
        let others =
            [Task::Preflight, Task::Prepare, Task::Snapshot, Task::CleanUp, Task::Finish, Task::ReadBack, Task::Commit];
        let strays: Vec<Task> = numbered.flat_map(|task| [0, 1].map(task)).chain(others).collect();
        let undisturbed = play(&shape, &[]).sequence.outcome();
        let mut sequence = Sequence::new(shape);
        while let Some(task) = sequence.next_task() {
            let before = format!("{sequence:?}");
            for stray in strays.iter().filter(|stray| **stray != task) {
                for answer in [TaskResult::Yes, TaskResult::No, TaskResult::Held, TaskResult::Serving] {
                    sequence.reply(*stray, answer);
                    assert_eq!(format!("{sequence:?}"), before, "{stray:?} {answer:?} while {task:?} is asked");
                }
            }
            sequence.reply(task, task.good_result());
        }
        assert_eq!(sequence.outcome(), undisturbed);
    }
}

#[test]
fn it_is_in_a_found_hold_only_while_it_captures_in_one() {
    let goes_on = StepShape { settles: true, proves: true, proves_left: true, goes_on_if_held: true };
    let must = PartShape { required: true, ..PartShape::default() };
    for held in [false, true] {
        let mut sequence = Sequence::new(Shape { steps: vec![goes_on], parts: vec![must], ..Shape::default() });
        let mut seen = 0;
        while let Some(task) = sequence.next_task() {
            let is_capture = matches!(task, Task::Capture(_));
            assert_eq!(sequence.is_in_found_hold(), held && is_capture, "{task:?}");
            seen += usize::from(is_capture);
            let found = matches!(task, Task::ProbeInitialState(_)) && held;
            sequence.reply(task, if found { TaskResult::Held } else { task.good_result() });
        }
        assert_eq!(seen, 1);
    }
}
