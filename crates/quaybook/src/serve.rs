//! Taking bookings, and answering on the socket.

use std::fs;
use std::io::{BufRead, BufReader, Write};
use std::os::unix::net::{UnixListener, UnixStream};
use std::path::Path;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, Instant};

use crate::desk::{Counter, Desk, Failure};
use crate::misbehave::Misbehaviour;

/// How a desk works.
#[derive(Clone, Copy, Debug)]
pub(crate) struct Pace {
    /// Operators that take bookings at the same time.
    pub(crate) operators: u64,
    /// Time between the steps of a booking.
    pub(crate) step: Duration,
}

struct Mind {
    misbehaviour: Misbehaviour,
    /// Since when the desk is asked to be paused.
    paused: Option<Instant>,
}

impl Mind {
    /// Whether operators may take a new booking.
    fn may_book(&self) -> bool {
        match (self.paused, self.misbehaviour) {
            (None, _) | (Some(_), Misbehaviour::Lie) => true,
            (Some(since), Misbehaviour::PauseLate) => since.elapsed() < Misbehaviour::LATE,
            (Some(_), _) => false,
        }
    }
}

struct DeskServer {
    desk: Desk,
    mind: Mutex<Mind>,
    in_hand: AtomicU64,
    turn: AtomicU64,
    stopping: AtomicBool,
}

impl DeskServer {
    fn mind<T>(&self, look: impl FnOnce(&mut Mind) -> T) -> T {
        let mut mind = self.mind.lock().unwrap_or_else(PoisonError::into_inner);
        if let (Misbehaviour::ResumeByItself, Some(since)) = (mind.misbehaviour, mind.paused)
            && since.elapsed() > Misbehaviour::SHORT
        {
            mind.paused = None;
        }
        look(&mut mind)
    }

    /// Takes a new booking in hand if operators may. Under the same lock as `pause`, so that a desk that was idle after
    /// it was paused stays idle.
    fn take_in_hand(&self) -> bool {
        self.mind(|mind| {
            let may = mind.may_book();
            if may {
                self.in_hand.fetch_add(1, Ordering::SeqCst);
            }
            may
        })
    }

    fn busy(&self) -> u64 {
        let lies = self.mind(|mind| mind.misbehaviour == Misbehaviour::Lie && mind.paused.is_some());
        if lies { 0 } else { self.in_hand.load(Ordering::SeqCst) }
    }

    fn state(&self) -> &'static str {
        let (asked, lies) = self.mind(|mind| (mind.paused.is_some(), mind.misbehaviour == Misbehaviour::Lie));
        match (asked, lies) {
            (false, _) => "serving",
            (true, true) => "paused",
            (true, false) if self.mind(|mind| mind.may_book()) => "serving",
            (true, false) if self.busy() > 0 => "pausing",
            (true, false) => "paused",
        }
    }

    fn answer(&self, line: &str) -> Result<String, Failure> {
        let words: Vec<&str> = line.split('\t').collect();
        match words.as_slice() {
            ["pause"] => self.mind(|mind| match mind.misbehaviour {
                Misbehaviour::RefusePause => Err("the desk refuses to pause: a ferry is boarding".into()),
                _ => {
                    mind.paused.get_or_insert_with(Instant::now);
                    Ok("pausing\n".to_owned())
                }
            }),
            ["resume"] => self.mind(|mind| match mind.misbehaviour {
                Misbehaviour::RefuseResume => Err("the desk refuses to resume: the drawer is jammed".into()),
                Misbehaviour::IgnoreResume => Ok("resumed\n".to_owned()),
                _ => {
                    mind.paused = None;
                    Ok("resumed\n".to_owned())
                }
            }),
            ["busy"] => Ok(format!("{}\n", self.busy())),
            ["state"] => Ok(format!("{}\n", self.state())),
            ["settings"] => Ok(fs::read_to_string(self.desk.settings())?),
            ["ledgers"] => Ok(self.desk.ledgers()),
            ["count", ledger] => Ok(format!("{}\n", self.desk.count(ledger)?)),
            ["serial"] => Ok(format!("{}\n", self.desk.serial(None)?)),
            ["serial", ledger] => Ok(format!("{}\n", self.desk.serial(Some(ledger))?)),
            ["export", ledger, folder] => Ok(format!("{} rows\n", self.desk.export(ledger, Path::new(folder))?)),
            ["purge", up_to] => Ok(format!("{} journal lines purged\n", self.desk.purge(up_to.parse()?)?)),
            ["misbehave", how] => {
                let how = clap::ValueEnum::from_str(how, false)?;
                self.mind(|mind| mind.misbehaviour = how);
                Ok(String::new())
            }
            ["stop"] => {
                self.stopping.store(true, Ordering::SeqCst);
                Ok("closing\n".to_owned())
            }
            _ => Err(format!("the desk does not know `{}`", line.replace('\t', " ")).into()),
        }
    }

    fn work(&self, pace: Pace) -> Result<(), Failure> {
        let counter = Counter::open(&self.desk)?;
        while !self.stopping.load(Ordering::SeqCst) {
            if !self.take_in_hand() {
                std::thread::sleep(Duration::from_millis(2));
                continue;
            }
            let booked = self.one_booking(&counter, pace);
            self.in_hand.fetch_sub(1, Ordering::SeqCst);
            booked?;
        }
        Ok(())
    }

    fn one_booking(&self, counter: &Counter, pace: Pace) -> Result<(), Failure> {
        let booking = counter.book(self.turn.fetch_add(1, Ordering::SeqCst))?;
        std::thread::sleep(pace.step);
        counter.pay(&booking)?;
        std::thread::sleep(pace.step);
        counter.list(&booking)
    }
}

/// Opens the desk and serves until it is told to stop.
pub(crate) fn serve(desk: &Desk, pace: Pace, misbehaviour: Misbehaviour) -> Result<(), Failure> {
    desk.prepare()?;
    if UnixStream::connect(desk.socket()).is_ok() {
        return Err(format!("a desk is open already in {}", desk.folder().display()).into());
    }
    let _ = fs::remove_file(desk.socket());
    let listener = UnixListener::bind(desk.socket())?;
    listener.set_nonblocking(true)?;
    let server = Arc::new(DeskServer {
        desk: desk.clone(),
        mind: Mutex::new(Mind { misbehaviour, paused: None }),
        in_hand: AtomicU64::new(0),
        turn: AtomicU64::new(u64::try_from(desk.serial(None)?)?),
        stopping: AtomicBool::new(false),
    });
    let operators: Vec<_> = (0..pace.operators)
        .map(|_| {
            let server = Arc::clone(&server);
            std::thread::spawn(move || server.work(pace))
        })
        .collect();
    while !server.stopping.load(Ordering::SeqCst) {
        match listener.accept() {
            Ok((stream, _)) => {
                let server = Arc::clone(&server);
                std::thread::spawn(move || reply(&server, &stream));
            }
            Err(_) => std::thread::sleep(Duration::from_millis(3)),
        }
    }
    for operator in operators {
        operator.join().map_err(|_| "an operator fell over")??;
    }
    fs::remove_file(desk.socket())?;
    Ok(())
}

fn reply(server: &DeskServer, mut stream: &UnixStream) {
    let _ = stream.set_nonblocking(false);
    let mut line = String::new();
    if BufReader::new(stream).read_line(&mut line).is_err() {
        return;
    }
    let text = match server.answer(line.trim_end_matches('\n')) {
        Ok(text) => format!("ok\n{text}"),
        Err(error) => format!("error\n{error}\n"),
    };
    let _ = stream.write_all(text.as_bytes());
}
