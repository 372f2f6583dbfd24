//! A proxy that does to connections what networks and servers do.

use std::io::{ErrorKind, Read, Write};
use std::net::{Shutdown, TcpListener, TcpStream};
use std::sync::atomic::{AtomicBool, AtomicU32, AtomicU64, Ordering};
use std::sync::{Arc, Mutex};
use std::time::Duration;

/// What is done to a connection.
#[derive(Clone, Copy, Debug)]
enum Fault {
    /// Cut after so many bytes in either direction.
    Cut(u64),
    /// Silent after so many bytes.
    Stall(u64),
    /// This byte of what the server answers is another one.
    Flip(u64),
    /// This byte of what is sent is another one. Only bodies are hit: a server that checks signatures, as all but the stand-in of these
    /// tests do, refuses a request whose head was changed, and one that does not would put the object under another name.
    FlipSent(u64),
    /// Answered by the proxy with this status.
    Answer(u16),
}

/// A proxy before a server; it is gone with the value.
pub struct Proxy {
    pub port: u16,
    shared: Arc<Shared>,
}

struct Shared {
    to: u16,
    /// One connection in so many is done something to; none where it is 0.
    one_in: AtomicU32,
    /// How long a silence lasts.
    silence: Duration,
    rng: Mutex<fastrand::Rng>,
    /// Whether it refuses to create only what is not there, as a server that does not know that.
    unconditional: AtomicBool,
    /// Whether the first byte of each body that is sent is another one.
    flips: AtomicBool,
    over: AtomicBool,
    requests: AtomicU64,
    done: AtomicU64,
}

impl Proxy {
    pub fn before(to: u16, silence: Duration, seed: u64) -> Self {
        let listener = TcpListener::bind("127.0.0.1:0").unwrap();
        let port = listener.local_addr().unwrap().port();
        let rng = Mutex::new(fastrand::Rng::with_seed(seed));
        let [unconditional, flips, over] = [false; 3].map(AtomicBool::new);
        let (one_in, requests, done) = (AtomicU32::new(0), AtomicU64::new(0), AtomicU64::new(0));
        let shared = Shared { to, one_in, silence, rng, unconditional, flips, over, requests, done };
        let proxy = Self { port, shared: Arc::new(shared) };
        let shared = Arc::clone(&proxy.shared);
        std::thread::spawn(move || {
            for client in listener.incoming().flatten() {
                if shared.over.load(Ordering::Relaxed) {
                    return;
                }
                let shared = Arc::clone(&shared);
                std::thread::spawn(move || shared.serve(client));
            }
        });
        proxy
    }

    /// Does something to one connection in so many from now on.
    pub fn trouble(&self, one_in: u32) {
        self.shared.one_in.store(one_in, Ordering::Relaxed);
    }

    /// Refuses from now on to create only what is not there, as some servers do.
    pub fn knows_no_conditions(&self) {
        self.shared.unconditional.store(true, Ordering::Relaxed);
    }

    /// Changes the first byte of each body that is sent from now on, or leaves them.
    pub fn flip_bodies(&self, flips: bool) {
        self.shared.flips.store(flips, Ordering::Relaxed);
    }

    /// How many requests there were.
    pub fn requests(&self) -> u64 {
        self.shared.requests.load(Ordering::Relaxed)
    }

    /// To how many connections something was done.
    pub fn done(&self) -> u64 {
        self.shared.done.load(Ordering::Relaxed)
    }
}

impl Drop for Proxy {
    fn drop(&mut self) {
        self.shared.over.store(true, Ordering::Relaxed);
        let _ = TcpStream::connect(("127.0.0.1", self.port));
    }
}

/// What of a piece that is sent belongs to the body of a request.
fn body_of(piece: &[u8]) -> std::ops::Range<usize> {
    let is_head = [&b"GET "[..], b"PUT ", b"HEAD", b"POST", b"DELE"].iter().any(|start| piece.starts_with(start));
    let end = piece.windows(4).position(|bytes| bytes == b"\r\n\r\n").map(|at| at + 4);
    if is_head { end.unwrap_or(piece.len())..piece.len() } else { 0..piece.len() }
}

/// Whether a request is to create only what is not there.
fn is_conditional(piece: &[u8]) -> bool {
    let head = &piece[..body_of(piece).start];
    piece.starts_with(b"PUT ") && String::from_utf8_lossy(head).to_ascii_lowercase().contains("if-none-match: *")
}

/// Takes the rest of a request, so that the answer is read, and refuses it.
fn refuse(client: &mut TcpStream, status: u16) {
    let _ = client.set_read_timeout(Some(Duration::from_millis(50)));
    let mut taken = [0; 1 << 16];
    while matches!(client.read(&mut taken), Ok(some) if some > 0) {}
    let answer = format!("HTTP/1.1 {status} No\r\ncontent-length: 0\r\nconnection: close\r\n\r\n");
    let _ = client.write_all(answer.as_bytes());
}

impl Shared {
    fn fault(&self) -> Option<Fault> {
        let one_in = self.one_in.load(Ordering::Relaxed);
        let mut rng = self.rng.lock().unwrap();
        if one_in == 0 || rng.u32(..one_in) > 0 {
            return None;
        }
        self.done.fetch_add(1, Ordering::Relaxed);
        let far = [300, 3_000, 300_000][rng.usize(..3)];
        let at = rng.u64(..far);
        Some(match rng.u8(..5) {
            0 => Fault::Cut(at),
            1 => Fault::Stall(at),
            2 => Fault::Flip(at),
            3 => Fault::FlipSent(at),
            _ => Fault::Answer(*[403, 500, 503, 507].get(rng.usize(..4)).unwrap()),
        })
    }

    fn serve(self: Arc<Self>, mut client: TcpStream) {
        let fault = self.fault();
        if let Some(Fault::Answer(status)) = fault {
            return refuse(&mut client, status);
        }
        let Ok(server) = TcpStream::connect(("127.0.0.1", self.to)) else { return };
        let (from_client, to_server) = (client.try_clone().unwrap(), server.try_clone().unwrap());
        let shared = Arc::clone(&self);
        let sending = std::thread::spawn(move || shared.pass(from_client, to_server, fault, true));
        self.pass(server, client, fault, false);
        let _ = sending.join();
    }

    fn pass(&self, mut from: TcpStream, mut to: TcpStream, fault: Option<Fault>, is_sent: bool) {
        let (mut passed, mut piece) = (0_u64, vec![0; 1 << 16]);
        loop {
            let some = match from.read(&mut piece) {
                Ok(0) => break,
                Ok(some) => some,
                Err(error) if error.kind() == ErrorKind::Interrupted => continue,
                Err(_) => break,
            };
            if is_sent {
                let is_request = |start: &[u8]| [&b"GET "[..], b"PUT ", b"HEAD", b"POST", b"DELE"].contains(&start);
                let count = piece[..some].get(..4).is_some_and(is_request);
                self.requests.fetch_add(u64::from(count), Ordering::Relaxed);
            }
            let is_refused = is_sent && self.unconditional.load(Ordering::Relaxed) && is_conditional(&piece[..some]);
            if is_refused {
                self.done.fetch_add(1, Ordering::Relaxed);
                refuse(&mut from, 501);
                break;
            }
            if is_sent && self.flips.load(Ordering::Relaxed) {
                let body = body_of(&piece[..some]);
                piece[body].first_mut().into_iter().for_each(|byte| *byte ^= 1);
            }
            let reached = |at: u64| (passed..passed + some as u64).contains(&at).then(|| (at - passed) as usize);
            let mut end = some;
            match fault {
                Some(Fault::Cut(at) | Fault::Stall(at)) => end = reached(at).unwrap_or(some),
                Some(Fault::Flip(at)) if !is_sent => reached(at).into_iter().for_each(|at| piece[at] ^= 1),
                Some(Fault::FlipSent(at)) if is_sent => {
                    let body = body_of(&piece[..some]);
                    reached(at).into_iter().filter(|at| body.contains(at)).for_each(|at| piece[at] ^= 1);
                }
                _ => {}
            }
            if to.write_all(&piece[..end]).is_err() {
                break;
            }
            if end < some {
                if matches!(fault, Some(Fault::Stall(_))) {
                    std::thread::sleep(self.silence);
                }
                let _ = from.shutdown(Shutdown::Both);
                break;
            }
            passed += some as u64;
        }
        let _ = to.shutdown(Shutdown::Both);
    }
}
