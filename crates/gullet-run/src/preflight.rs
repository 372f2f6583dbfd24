//! Everything that can be known before a run, by probes that touch nothing.
//!
//! [`check`] gives a list of [`Check`]s for one application, each passed, worth a look, or failed, with what to do.
//! [`check_identity`] and [`check_store`] are what every run does too.

mod programs;
mod store;

use std::collections::BTreeSet;
use std::fs;
use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};
use std::time::Duration;

use gullet_store::{Store, free_space};
use serde::Serialize;

use crate::hold::{HoldNote, InitialState, NoteStatus, initial_state, notes_folder};
use gullet_capture::kinds::{check_service, survey};
use gullet_capture::part::{Survey, foresee};
use gullet_capture::plan::{Plan, PlannedPart};
use gullet_host::disks::disks_of;
use gullet_host::hook::{Call, Limits, Runner};
use gullet_host::state::State;
use gullet_logbook::logbook::{Logbook, Logged};
use gullet_model::Reason;
use gullet_model::definition::{App, CaptureMethod, OneOrMany, PartKind, Probe, When};
use gullet_model::record::SecuredBy;
use gullet_model::words::{count, duration, list, millis, size};

use programs::check_programs;
pub use programs::missing_program;
use store::check_copy;
pub use store::{StoreTrouble, cannot_open, check_identity, check_mounted, check_store};

/// Bytes that are read into the store in a millisecond, roughly, and bytes that are copied.
const STREAMED_A_MS: u64 = 200_000;
const COPIED_A_MS: u64 = 500_000;

/// Filesystems that are not this machine's own, by the magic numbers of statfs(2).
const NOT_OURS: [(u64, &str); 6] = [
    (0x6969, "NFS"),
    (0xFF53_4D42, "CIFS"),
    (0xFE53_4D42, "SMB"),
    (0x6573_5546, "FUSE"),
    (0x0102_1997, "9p"),
    (0x00C3_6400, "Ceph"),
];

/// How a check came out. Ordered by severity.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize)]
#[serde(rename_all = "snake_case")]
pub enum Verdict {
    /// As it should be.
    Pass,
    /// Worth a look; a run goes on.
    Warn,
    /// A run would be refused, or fail.
    Fail,
}

/// One thing that was looked at.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct Check {
    /// What was looked at.
    pub what: String,
    /// How it came out.
    pub verdict: Verdict,
    /// What was found.
    pub found: String,
    /// What to do, where there is something.
    pub advice: Option<String>,
}

/// What a check needs.
pub struct Preflight<'a> {
    /// The plan of the run.
    pub plan: &'a Plan,
    /// The local state.
    pub state: &'a State,
    /// The store, or why it cannot be opened.
    pub store: Result<&'a Store, StoreTrouble>,
    /// The application's logbook.
    pub book: &'a Logbook,
    /// Runs the commands of probes.
    pub runner: &'a Runner<'a>,
}

/// Looks at everything. The application is asked, never touched.
pub fn check(preflight: &Preflight<'_>) -> Vec<Check> {
    let mut checks = Checks::default();
    let surveys: Vec<Option<Survey>> = preflight.plan.parts.iter().map(|part| survey(part, preflight.plan)).collect();
    check_programs(preflight.plan, &mut checks);
    preflight.way_back(&mut checks);
    preflight.requirements(&mut checks);
    preflight.sources(&surveys, &mut checks);
    preflight.store(&mut checks);
    preflight.keys(&mut checks);
    preflight.space(&surveys, &mut checks);
    preflight.application(&mut checks);
    preflight.hold(&surveys, &mut checks);
    preflight.state_folder(&mut checks);
    preflight.history(&mut checks);
    checks.0
}

/// What is known beforehand to make a run fail, by looking only where that takes no time: programs that are not there, required
/// sources that are not there, too little space. Without an earlier run the sources are looked through for their size.
pub fn known_beforehand(plan: &Plan, store: Option<&Store>, last: Option<&Logged>) -> Vec<Check> {
    let mut checks = Checks::default();
    check_programs(plan, &mut checks);
    for part in plan.parts.iter().filter(|part| part.spec.required) {
        for source in files_of(part) {
            if let Err(error) = fs::metadata(source) {
                checks.fail("source", format!("{}: `{}`: {error}", part.name, source.display()), None);
            }
        }
    }
    if let Some(free) = store.and_then(|store| store.location().free_space().ok().flatten()) {
        let wanted = match last {
            Some(last) => last.record.bytes_stored(),
            None => plan.parts.iter().filter_map(|part| survey(part, plan)).map(|survey| survey.allocated).sum(),
        };
        // Less may be new this time, and what is compressed is smaller; where there is not room for a tenth, it cannot fit.
        if free < wanted / 10 {
            let found = format!("{} free in the store, {} wanted", size(free), size(wanted));
            checks.fail("space", found, Some("make room before the application is held".to_owned()));
        }
    }
    checks.0.retain(|check| check.verdict == Verdict::Fail);
    checks.0
}

/// The paths of files, folders and SQLite databases that a part captures; those of a server are the server's.
fn files_of(part: &PlannedPart) -> impl Iterator<Item = &PathBuf> {
    let is_meant = matches!(part.source.kind(), PartKind::Files | PartKind::Sqlite);
    part.source.paths().filter(move |_| is_meant)
}

#[derive(Default)]
struct Checks(Vec<Check>);

impl Checks {
    fn add(&mut self, what: &str, verdict: Verdict, found: impl Into<String>, advice: Option<String>) {
        self.0.push(Check { what: what.to_owned(), verdict, found: found.into(), advice });
    }

    fn pass(&mut self, what: &str, found: impl Into<String>) {
        self.add(what, Verdict::Pass, found, None);
    }

    fn warn(&mut self, what: &str, found: impl Into<String>, advice: &str) {
        self.add(what, Verdict::Warn, found, Some(advice.to_owned()));
    }

    fn fail(&mut self, what: &str, found: impl Into<String>, advice: Option<String>) {
        self.add(what, Verdict::Fail, found, advice);
    }
}

impl Preflight<'_> {
    fn last(&self) -> Option<&Logged> {
        self.book.last_good(&self.plan.app)
    }

    /// The same for what a restore in place and a drill would start: they are seldom tried, and wanted in a hurry.
    fn way_back(&self, checks: &mut Checks) {
        let spec = &self.plan.spec;
        for (what, commands) in [("restore", spec.commands_of_restore()), ("drill", spec.commands_of_drill())] {
            let missing: BTreeSet<String> = commands.into_iter().filter_map(missing_program).collect();
            for found in missing {
                checks.warn(what, found, "a restore in place or a drill would fail; give the whole path");
            }
        }
    }

    /// Whom it is encrypted to, and what a change of that means.
    fn keys(&self, checks: &mut Checks) {
        let keys = self.plan.seal.texts();
        if keys.is_empty() {
            return;
        }
        let sealed = format!("encrypted to {}", count(keys.len() as u64, "public key"));
        let before = self.last().map(|logged| &logged.keys);
        let added = before.is_some_and(|before| keys.iter().any(|key| !before.contains(key)));
        if added {
            let found = format!("{sealed}, one of them new since the last run");
            let advice = "the next run stores everything anew, so that each key opens it whole; earlier runs open as before, \
                          only with the keys that they were encrypted to";
            checks.warn("keys", found, advice);
        } else if keys.len() == 1 {
            let advice = "if its private key is lost, so is everything: keep two copies, or add a second key; try it now and \
                          then with `gullet key test`";
            checks.add("keys", Verdict::Pass, sealed, Some(advice.to_owned()));
        } else {
            checks.pass("keys", sealed);
        }
    }

    fn requirements(&self, checks: &mut Checks) {
        for require in &self.plan.spec.require {
            let probes = OneOrMany::One(Box::new(require.probe.clone()));
            match self.ask(&probes, "preflight") {
                Ok(()) => checks.pass("requirement", require.name.clone()),
                Err(why) => checks.fail("requirement", format!("{}: {why}", require.name), require.advice.clone()),
            }
        }
    }

    fn ask(&self, probes: &OneOrMany<Probe>, moment: &str) -> Result<(), Reason> {
        let call = Call { moment, limit: Limits::PROBE, ..Call::default() };
        self.runner.wait_for(probes, &call, Duration::ZERO).result
    }

    fn sources(&self, surveys: &[Option<Survey>], checks: &mut Checks) {
        for (part, survey) in self.plan.parts.iter().zip(surveys) {
            let Some(survey) = survey else { continue };
            match &survey.problem {
                Some(problem) => checks.fail("source", format!("{}: {problem}", part.name), None),
                None => {
                    let found = format!("{}: {}, {}", part.name, size(survey.bytes), count(survey.files, "file"));
                    checks.pass("source", found);
                    // One with a wildcard may match nothing today; one without was meant for something.
                    let plain = |pattern: &&String| !pattern.contains(['*', '?', '[', '{']);
                    for pattern in survey.unused_patterns.iter().filter(plain) {
                        let found = format!("{}: nothing matches `{pattern}`", part.name);
                        checks.warn("pattern", found, "write it as a path below a root, as a whole path, or as a name");
                    }
                    if let Some(first) = survey.unreadable.first() {
                        let advice = "let this account read it, or exclude it; or say `unreadable = \"ok\"`";
                        checks.warn("source", format!("{}: {first}", part.name), advice);
                    }
                }
            }
        }
        for part in &self.plan.parts {
            match check_service(part, self.plan, self.runner) {
                Some(Ok(found)) => checks.pass("service", format!("{}: {found}", part.name)),
                Some(Err(why)) => checks.fail("service", format!("{}: {why}", part.name), None),
                None => {}
            }
        }
        for drift in &self.plan.drift {
            checks.warn("parts", drift.text.clone(), "see the plan");
        }
    }

    fn store(&self, checks: &mut Checks) {
        let store = self.store.clone();
        let checked = check_identity(store, self.plan, self.state)
            .and_then(|store| check_store(store, self.plan, self.runner.run.as_str()));
        match checked {
            Ok(()) => checks.pass("store", format!("{}: written, read back, removed", self.plan.store.display())),
            Err((why, advice)) => checks.fail("store", why, advice),
        }
        for copy in &self.plan.copies {
            match check_copy(copy, self.plan, self.store.as_ref().ok().copied(), self.runner.world) {
                Ok(found) => checks.pass("copy", found),
                Err((why, advice)) => checks.warn("copy", why, &advice.unwrap_or_default()),
            }
        }
        self.disks(checks);
    }

    /// Whether one broken disk would take the store with what is in it.
    fn disks(&self, checks: &mut Checks) {
        let device = |path: &Path| fs::metadata(path).map(|meta| meta.dev()).ok();
        let Some(of_store) = device(&self.plan.store) else { return };
        let sources: BTreeSet<&Path> =
            self.plan.parts.iter().flat_map(|part| part.source.paths()).map(PathBuf::as_path).collect();
        let advice = "one broken disk takes both: keep the store on another one";
        let disks = disks_of(&self.plan.store);
        let shared = |path: &Path| disks_of(path).intersection(&disks).next().cloned();
        // What is exported lies there until it is stored.
        let also = shared(self.state.folder()).map(|_| "the state folder with `{scratch}`");
        let and_so = also.map_or_else(String::new, |what| format!("; so is {what}"));
        if let Some(first) = sources.iter().find(|source| device(source) == Some(of_store)) {
            let found = format!("the store is on the same filesystem as {}{and_so}", first.display());
            return checks.warn("same disk", found, advice);
        }
        if let Some((source, disk)) = sources.into_iter().find_map(|source| Some((source, shared(source)?))) {
            let found =
                format!("the store is on another filesystem of the same disk ({disk}) as {}{and_so}", source.display());
            checks.warn("same disk", found, advice);
        } else if let Some(what) = also {
            checks.pass("same disk", format!("no source is on the store's disk; {what}, is"));
        }
    }

    fn space(&self, surveys: &[Option<Survey>], checks: &mut Checks) {
        let bytes: u64 = surveys.iter().flatten().map(|survey| survey.allocated).sum();
        // Without an earlier run everything is new; with one, as much as last time and a tenth of all besides.
        let (wanted, from) = match self.last() {
            None => (bytes, "everything is new"),
            Some(last) => (last.record.bytes_stored() + bytes / 10, "by the last run, and a tenth"),
        };
        if let Ok(store) = &self.store
            && let Ok(Some(free)) = store.location().free_space()
        {
            let found = format!("{} free in the store, {} estimated ({from})", size(free), size(wanted));
            if free < wanted {
                checks.fail("space", found, Some("make room before the application is held".to_owned()));
            } else {
                checks.pass("space", found);
            }
        }
        // Databases and exports are copied into the state folder first.
        let staged = |part: &PlannedPart| match part.source.kind() {
            PartKind::Files => false,
            // By its files, or exported.
            PartKind::Postgres | PartKind::Mariadb => part.source.paths().next().is_none(),
            _ => true,
        };
        let parts = self.plan.parts.iter().zip(surveys).filter(|(part, _)| staged(part));
        let wanted: u64 = parts
            .map(|(part, survey)| match survey {
                Some(survey) => survey.bytes,
                None => self.last().and_then(|l| l.record.capture(&part.name)).map_or(0, |c| c.counts.bytes),
            })
            .sum();
        let Ok(free) = free_space(self.state.folder()) else { return };
        let found =
            format!("{} free in the state folder, {} estimated for databases and exports", size(free), size(wanted));
        if free < wanted {
            checks.fail("space", found, Some("make room, or move `state` to a larger disk".to_owned()));
        } else {
            checks.pass("space", found);
        }
    }

    fn application(&self, checks: &mut Checks) {
        if let NoteStatus::Owned(head) = HoldNote::status(&notes_folder(self.state.folder()), &self.plan.app) {
            let advice =
                if head.by_hand { "`gullet release` releases it" } else { "a run is going on: wait for its end" };
            checks.warn("application", format!("it is held {}", head.describe()), advice);
            return;
        }
        for step in &self.plan.spec.hold {
            let name = &step.name;
            match initial_state(step, &mut |probes| self.ask(probes, "probe")) {
                InitialState::Serving => checks.pass("application", format!("{name}: serving")),
                InitialState::Held => {
                    let advice = "find out who holds it; or say `if_held = \"continue\"`";
                    checks.fail("application", format!("{name}: held already"), Some(advice.to_owned()));
                }
                InitialState::NotAsked => checks.warn(
                    "application",
                    format!("{name}: there is no probe to ask"),
                    "give it `released` and `entered`",
                ),
                InitialState::Unknown(why) => {
                    let advice = "is it running? and do its probes tell `held` from `serving`?";
                    checks.fail("application", format!("{name}: {why}"), Some(advice.to_owned()));
                }
            }
        }
    }

    fn hold(&self, surveys: &[Option<Survey>], checks: &mut Checks) {
        let spec = &self.plan.spec;
        if let Some(why) = &spec.self_consistent {
            checks.pass("hold", format!("none needed, the export is consistent by itself: {why}"));
            return;
        }
        if let Some(why) = &spec.no_hold {
            checks.warn("hold", format!("none: {why}"), "the parts will not be from one point in time");
            return;
        }
        for step in spec.hold.iter().filter(|step| step.entered.is_none()) {
            let found = format!("{}: nothing proves that it is held", step.name);
            checks.warn(
                "hold",
                found,
                "give it an `entered` probe; without it no run is more than complete with warnings",
            );
        }
        for step in spec.hold.iter().filter(|step| step.released.is_none() && step.session.is_none()) {
            let found = format!("{}: nothing proves that it serves again", step.name);
            checks.warn("hold", found, "give it a `released` probe");
        }
        let limit = millis(self.plan.longest_hold());
        let measured = self.last().and_then(|last| last.record.hold.held_ms);
        let (held, found) = match measured {
            Some(held) => (held, format!("held {} last time, {} at most", duration(held), duration(limit))),
            None => {
                let (held, slowest) = self.foreseen_hold(surveys);
                let about = if held < 10 { "less than 0.01 s".to_owned() } else { format!("about {}", duration(held)) };
                let found = format!("{about} by the sizes, {} at most{slowest}", duration(limit));
                (held, found)
            }
        };
        if held > limit / 2 {
            checks.warn("hold", found, &self.shorter());
        } else {
            checks.pass("hold", found);
        }
        for part in &self.plan.parts {
            let wanted = self.plan.spec.capture_method == Some(CaptureMethod::Snapshot);
            for source in files_of(part).filter(|_| wanted) {
                if foresee(source, self.plan, part.spec.cross_mounts) != Some(SecuredBy::Snapshot) {
                    let found = format!("{}: there can be no snapshot of {}", part.name, source.display());
                    checks.fail(
                        "hold",
                        found,
                        Some("say `capture_method = \"auto\"`, or describe one with `snapshot`".to_owned()),
                    );
                }
            }
        }
        if std::process::id() == 1 {
            let found = "Gullet is the first process here: if it is killed, its guard dies with it";
            checks.warn("guard", found, "only the next command can release then");
        }
    }

    /// How long the hold would last by the sizes of the sources, in milliseconds, and which part takes longest. Hooks and
    /// exports cannot be foreseen.
    fn foreseen_hold(&self, surveys: &[Option<Survey>]) -> (u64, String) {
        let held =
            self.plan.parts.iter().zip(surveys).filter(|(part, _)| part.spec.when.unwrap_or_default() == When::Held);
        let each = held.filter_map(|(part, survey)| {
            let survey = survey.as_ref()?;
            let source = part.source.paths().next()?;
            let rate = match foresee(source, self.plan, part.spec.cross_mounts) {
                Some(SecuredBy::Snapshot | SecuredBy::Clone | SecuredBy::View) => {
                    return Some((part, survey.files / 20));
                }
                Some(SecuredBy::Copy) => COPIED_A_MS,
                None => STREAMED_A_MS,
            };
            let bytes = if part.spec.precopy { survey.allocated / 50 } else { survey.allocated };
            Some((part, bytes / rate + survey.files / 20))
        });
        let each: Vec<(&PlannedPart, u64)> = each.collect();
        let sum = each.iter().map(|(_, ms)| ms).sum();
        let slowest = each.iter().max_by_key(|(_, ms)| ms).filter(|(_, ms)| *ms > 1000);
        (sum, slowest.map_or(String::new(), |(part, _)| format!(", most of it for `{}`", part.name)))
    }

    /// What would make the hold shorter.
    fn shorter(&self) -> String {
        let files = self.plan.parts.iter().filter(|part| part.source.kind() == PartKind::Files);
        let cold: Vec<String> =
            files.filter(|part| !part.spec.precopy).map(|part| format!("`{}`", part.name)).collect();
        let mut sources = self.plan.parts.iter().flat_map(|part| part.source.paths());
        let can = sources.find_map(|source| {
            let plain = Plan { spec: App { capture_method: None, ..self.plan.spec.clone() }, ..self.plan.clone() };
            foresee(source, &plain, false).filter(|by| *by != SecuredBy::Copy)
        });
        let mut words = Vec::new();
        if let Some(by) = can.filter(|_| matches!(self.plan.secure(), CaptureMethod::Stream | CaptureMethod::Copy)) {
            words.push(format!("`capture_method = \"auto\"` would take a {}", by.words()));
        }
        if !cold.is_empty() {
            words.push(format!("`precopy = true` for {} leaves the hold only what changed meanwhile", list(&cold)));
        }
        words.push("or raise `max_hold`".to_owned());
        words.join("; ")
    }

    /// The hold note and the locks need a filesystem of this machine's own.
    fn state_folder(&self, checks: &mut Checks) {
        let folder = self.state.folder();
        let Ok(stat) = rustix::fs::statfs(folder) else { return };
        let magic = stat.f_type as u64 & 0xFFFF_FFFF;
        match NOT_OURS.iter().find(|(number, _)| *number == magic) {
            Some((_, name)) => checks.warn(
                "state folder",
                format!("{} is on {name}", folder.display()),
                "keep `state` on a local disk: locks and the hold note cannot be relied on there",
            ),
            None => checks.pass("state folder", format!("{}: private, on a local filesystem", folder.display())),
        }
    }

    fn history(&self, checks: &mut Checks) {
        match (self.last(), self.book.last(&self.plan.app)) {
            (Some(last), _) => checks.pass("history", format!("last complete run {}", last.record.run)),
            (None, Some(_)) => checks.warn("history", "it has no complete run", "run it by hand until it has one"),
            (None, None) => checks.warn("history", "it has never been run", "run it by hand first"),
        }
        let now = self.runner.world.clock.now();
        if let Some(last) = self.book.last(&self.plan.app).filter(|last| last.record.ended > now) {
            let found = format!("it is {now}, and the last run ended at {}", last.record.ended);
            checks.warn("clock", found, "the clock was ahead then, or is behind now: set it");
        }
    }
}
