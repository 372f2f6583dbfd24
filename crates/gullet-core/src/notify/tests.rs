use gullet_model::ids::Random;
use gullet_model::outcome::Outcome;
use gullet_model::record::Record;

use super::*;

/// Bytes that are not random.
struct Ones;

impl Random for Ones {
    fn fill(&self, bytes: &mut [u8]) {
        bytes.fill(1);
    }
}

const DEFINITION: &str = r#"
[store.depot]
location = "/srv/depot"
[notify.office]
run = ["true"]
[notify.pager]
run = ["true"]
[app.desk]
no_hold = "a test"
notify = [{ to = "office" }, { to = "pager", on = ["failed"] }, { to = "pager", on = ["failed", "complete"] }]
"#;

/// Somebody who fails, or dies, when he is told to.
#[derive(Default)]
struct Hand {
    fails: bool,
    /// Does not know, then, whether the other side has it.
    is_vague: bool,
    /// Dies after it was said that the message is about to be sent.
    dies: bool,
    got: Vec<Message>,
}

impl Courier for Hand {
    fn send(
        &mut self,
        _: &NotifySpec,
        message: &Message,
        commit: &mut dyn FnMut() -> io::Result<()>,
    ) -> Result<Vec<String>, NotSent> {
        if self.fails {
            return Err(NotSent { why: "nobody answers".to_owned(), is_certain: !self.is_vague });
        }
        commit().unwrap();
        if self.dies {
            std::panic::resume_unwind(Box::new("dead"));
        }
        self.got.push(message.clone());
        Ok(Vec::new())
    }
}

struct Place {
    _folder: tempfile::TempDir,
    state: State,
    definition: Definition,
}

impl Place {
    fn new() -> Self {
        let folder = tempfile::tempdir().unwrap();
        let state = State::open(&folder.path().join("state"), &Ones).unwrap();
        Self { state, _folder: folder, definition: toml::from_str(DEFINITION).unwrap() }
    }

    fn ends(&self, run: &str, outcome: Outcome) {
        let at = Timestamp::UNIX_EPOCH;
        let record = Record::bare(run.into(), "desk", "m", at, outcome);
        self.state.note_notice(&gullet_model::notice::Notice::of_run(&record, None)).unwrap();
    }

    fn queue(&self) -> Vec<(String, String)> {
        let outbox = Outbox::open(&self.state).unwrap().unwrap();
        queue_notices(&outbox, &self.state, &self.definition, Timestamp::UNIX_EPOCH).unwrap();
        waiting(&self.state).into_iter().map(|message| (message.id, message.to)).collect()
    }

    /// Sends at a minute; whether it lived to the end.
    fn send(&self, minute: i64, hand: &mut Hand) -> bool {
        let outbox = Outbox::open(&self.state).unwrap().unwrap();
        let now = || Timestamp::from_second(minute * 60).unwrap();
        let work = || send_waiting(&outbox, &self.definition, (&now, false), hand).unwrap();
        std::panic::catch_unwind(std::panic::AssertUnwindSafe(work)).is_ok()
    }
}

#[test]
fn each_is_told_what_its_rules_ask_for_and_only_once() {
    let place = Place::new();
    place.ends("aaaaaaaaaa", Outcome::Failed);
    place.ends("bbbbbbbbbb", Outcome::Complete);
    let pair = |id: &str, to: &str| (id.to_owned(), to.to_owned());
    let expected = [pair("aaaaaaaaaa", "office"), pair("aaaaaaaaaa", "pager"), pair("bbbbbbbbbb", "pager")];
    assert_eq!(place.queue(), expected);
    assert_eq!(place.queue(), expected, "nothing is told twice");
    let mut hand = Hand::default();
    assert!(place.send(0, &mut hand));
    assert_eq!(hand.got.len(), 3);
    assert!(place.send(1, &mut hand));
    assert_eq!((hand.got.len(), place.queue().len()), (3, 0));
    assert!(knows(&place.state, "aaaaaaaaaa") && !knows(&place.state, "cccccccccc"));
}

#[test]
fn what_the_definition_does_not_have_for_a_while_is_told_later() {
    let mut place = Place::new();
    place.ends("aaaaaaaaaa", Outcome::Failed);
    let app = place.definition.app.remove("desk").unwrap();
    assert_eq!(place.queue(), []);
    place.definition.app.insert("desk".to_owned(), app);
    assert_eq!(place.queue().len(), 2);
    place.ends("bbbbbbbbbb", Outcome::Failed);
    place.definition.app.clear();
    let later = Timestamp::UNIX_EPOCH + SignedDuration::from_hours(31 * 24);
    let outbox = Outbox::open(&place.state).unwrap().unwrap();
    queue_notices(&outbox, &place.state, &place.definition, later).unwrap();
    assert!(!place.state.has_notice("bbbbbbbbbb"), "what was removed for good is not kept for ever");
}

#[test]
fn a_run_that_goes_on_is_not_told() {
    let place = Place::new();
    place.state.log("desk", "aaaaaaaaaa").unwrap();
    place.ends("aaaaaaaaaa", Outcome::Failed);
    assert_eq!(place.queue(), []);
    place.state.close_log(&place.state.open_logs("desk")[0]).unwrap();
    assert_eq!(place.queue().len(), 2);
}

#[test]
fn what_cannot_be_sent_is_tried_with_growing_pauses_and_never_lost() {
    let place = Place::new();
    place.ends("aaaaaaaaaa", Outcome::Warnings);
    place.queue();
    let mut hand = Hand { fails: true, ..Hand::default() };
    let mut tried_at = Vec::new();
    for minute in 0..400 {
        let before = waiting(&place.state)[0].tries;
        assert!(place.send(minute, &mut hand));
        if waiting(&place.state)[0].tries > before {
            tried_at.push(minute);
        }
    }
    assert_eq!(tried_at, [0, 1, 3, 7, 15, 31, 63, 123, 183, 243, 303, 363]);
    assert_eq!(waiting(&place.state)[0].problem.as_deref(), Some("nobody answers"));
    hand.fails = false;
    // A clock that is set back by a day makes nobody wait for a day.
    assert!(place.send(-1440, &mut hand));
    assert_eq!(hand.got.len(), 1);
    assert!(!hand.got[0].may_be_sent, "it was never on its way");
}

#[test]
fn who_dies_while_sending_leaves_a_doubt_that_is_said_once() {
    let place = Place::new();
    place.ends("aaaaaaaaaa", Outcome::Warnings);
    place.queue();
    let mut hand = Hand { dies: true, ..Hand::default() };
    assert!(!place.send(0, &mut hand));
    assert_eq!(waiting(&place.state).len(), 1, "it is not lost");
    hand = Hand { fails: true, is_vague: true, ..Hand::default() };
    assert!(place.send(1, &mut hand));
    assert!(waiting(&place.state)[0].may_be_sent);
    hand.fails = false;
    assert!(place.send(60, &mut hand));
    assert_eq!(hand.got.len(), 1);
    assert!(hand.got[0].may_be_sent);
    assert!(waiting(&place.state).is_empty());
}

#[test]
fn one_who_cannot_be_reached_does_not_keep_others_waiting() {
    struct OneFails(Vec<String>);
    impl Courier for OneFails {
        fn send(
            &mut self,
            _: &NotifySpec,
            message: &Message,
            _: &mut dyn FnMut() -> io::Result<()>,
        ) -> Result<Vec<String>, NotSent> {
            self.0.push(message.to.clone());
            if message.to == "office" { Err(NotSent::certainly("gone")) } else { Ok(Vec::new()) }
        }
    }
    let place = Place::new();
    place.ends("aaaaaaaaaa", Outcome::Failed);
    place.ends("bbbbbbbbbb", Outcome::Failed);
    place.queue();
    let outbox = Outbox::open(&place.state).unwrap().unwrap();
    let mut hand = OneFails(Vec::new());
    let now = || Timestamp::UNIX_EPOCH;
    let sent = send_waiting(&outbox, &place.definition, (&now, false), &mut hand).unwrap();
    assert_eq!(hand.0, ["office", "pager", "pager"], "the second one to the office is not waited for");
    assert_eq!(sent.len(), 2);
    assert!(Outbox::open(&place.state).unwrap().is_none(), "one process alone sends");
    assert_eq!(outbox.forget("office").unwrap().len(), 2);
    assert!(waiting(&place.state).is_empty());
}
