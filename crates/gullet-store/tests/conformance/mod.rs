//! What every location must do, checked through [`Location`] alone. Tests of other crates run it against real servers.

use std::io::{Read, Seek, SeekFrom, Write};

use gullet_store::{Hash, Lengths, Location, ObjectInfo, StoreError};

/// So many objects are listed: more than one page of any server.
const MANY: usize = 1_050;
/// Bytes of an object that is larger than any piece in which one is read.
const LARGE: usize = 20 << 20;

/// What a location cannot do, although it says nothing of it.
#[derive(Debug, Default, PartialEq, Eq)]
pub struct Lies {
    /// It takes the same name again.
    pub overwrites: bool,
    /// Of several writers at once more than one is told that it wrote an object of one name.
    pub several_winners: bool,
}

/// Runs everything. What a careless server lies about is given; all else must be right.
pub fn check(location: &dyn Location) -> Lies {
    location.prepare().unwrap();
    assert_eq!(location.list("").unwrap(), [], "{} is not empty", location.describe());
    let lies = Lies { overwrites: once(location), several_winners: race(location) };
    unpublished(location);
    ranges(location);
    names(location);
    lists(location);
    removes(location);
    lies
}

/// An object is written once and read back; gives whether it was overwritten.
fn once(location: &dyn Location) -> bool {
    let name = "records/desk/one.json";
    assert!(matches!(location.read(name), Err(StoreError::Missing { .. })));
    assert!(matches!(location.open(name), Err(StoreError::Missing { .. })));
    assert_eq!(location.length(name).unwrap(), None);
    location.write(name, b"the first").unwrap();
    assert_eq!(location.read(name).unwrap(), b"the first");
    assert_eq!(location.length(name).unwrap(), Some(9));
    match location.write(name, b"another") {
        Err(StoreError::Exists { .. }) => {
            assert_eq!(location.read(name).unwrap(), b"the first");
            false
        }
        Ok(()) => true,
        Err(error) => panic!("{error}"),
    }
}

fn unpublished(location: &dyn Location) {
    let name = "payload/w/r/000009.zst";
    let mut object = location.create(name).unwrap();
    object.write_all(&noise(1, 3 << 20)).unwrap();
    drop(object);
    assert_eq!(location.length(name).unwrap(), None);
    assert_eq!(location.list("payload/").unwrap(), []);
}

fn ranges(location: &dyn Location) {
    for (name, length) in [("payload/w/r/000000.zst", LARGE), ("payload/w/r/000001.zst", 1), ("payload/w/r/empty", 0)] {
        let bytes = noise(2, length);
        let mut object = location.create(name).unwrap();
        for piece in bytes.chunks(70_001) {
            object.write_all(piece).unwrap();
        }
        object.publish(Hash::of(&bytes)).unwrap();
        assert_eq!(location.length(name).unwrap(), Some(length as u64));
        let mut open = location.open(name).unwrap();
        let mut read = Vec::new();
        open.read_to_end(&mut read).unwrap();
        assert!(read == bytes, "{name} was read differently");
        assert_eq!(open.seek(SeekFrom::End(0)).unwrap(), length as u64);
        assert_eq!(open.read(&mut [0; 10]).unwrap(), 0);
        let mut rng = fastrand::Rng::with_seed(3);
        for _ in 0..20 {
            let from = rng.usize(..=length);
            let some = rng.usize(..=(length - from).min(3 << 20));
            let mut piece = vec![0; some];
            open.seek(SeekFrom::Start(from as u64)).unwrap();
            open.read_exact(&mut piece).unwrap();
            assert!(piece == bytes[from..from + some], "{some} bytes from {from}");
        }
    }
    assert_eq!(location.names("payload/").unwrap().len(), 3);
    assert_eq!(location.read("payload/w/r/empty").unwrap(), b"");
}

fn names(location: &dyn Location) {
    let strange = "remarks/desk/A_b-0.9/20261129T010203.456Z-run-0123456789abcdef.json";
    location.write(strange, b"x").unwrap();
    assert_eq!(location.names("remarks/desk/A_b-0.9/").unwrap(), [strange]);
    for name in ["", "/etc/passwd", "../x", "a/../b", "a//b", ".hidden", "a b", "a\nb", "a%2Fb"] {
        assert!(matches!(location.write(name, b"x"), Err(StoreError::Name(_))), "{name:?}");
    }
}

fn lists(location: &dyn Location) {
    let made: Vec<String> = (0..MANY).map(|number| format!("many/{}/{number:04}", number % 3)).collect();
    std::thread::scope(|scope| {
        for some in made.chunks(MANY.div_ceil(6)) {
            scope.spawn(move || some.iter().for_each(|name| location.write(name, name.as_bytes()).unwrap()));
        }
    });
    location.write("many2", b"beside").unwrap();
    let mut expected: Vec<ObjectInfo> =
        made.iter().map(|name| ObjectInfo { name: name.clone(), length: name.len() as u64 }).collect();
    expected.sort();
    assert!(location.list("many/").unwrap() == expected);
    assert_eq!(location.names("many/1/").unwrap().len(), MANY / 3);
    let some: Vec<&str> = expected[..5].iter().map(|object| object.name.as_str()).chain(["many/1/none"]).collect();
    let mut lengths = Lengths::default();
    let asked: Vec<Option<u64>> = some.iter().map(|name| lengths.of(location, name).unwrap()).collect();
    assert_eq!(asked, expected[..5].iter().map(|object| Some(object.length)).chain([None]).collect::<Vec<_>>());
    assert_eq!(location.names("man/").unwrap(), Vec::<String>::new());
    assert_eq!(location.list("").unwrap().len(), MANY + 6);
}

fn removes(location: &dyn Location) {
    location.remove("many2").unwrap();
    // Some places say that there is nothing to remove, and others nothing.
    assert!(matches!(location.remove("many2"), Err(StoreError::Missing { .. }) | Ok(())));
    assert_eq!(location.length("many2").unwrap(), None);
    // A name that was given up can be used again: what was damaged is sent anew.
    location.write("many2", b"again").unwrap();
    assert_eq!(location.read("many2").unwrap(), b"again");
}

/// Several writers of one name at once: gives whether more than one was told that it did. What is there is whole in any case.
fn race(location: &dyn Location) -> bool {
    let mut several = false;
    for round in 0..5 {
        let name = format!("machines/race-{round}.json");
        let texts: Vec<Vec<u8>> = (0..4).map(|writer| format!("writer {writer} ").repeat(1000).into_bytes()).collect();
        let won: Vec<usize> = std::thread::scope(|scope| {
            let write = |(writer, text): (usize, &Vec<u8>)| {
                let (name, text) = (name.clone(), text.clone());
                scope.spawn(move || match location.write(&name, &text) {
                    Ok(()) => Some(writer),
                    Err(StoreError::Exists { .. }) => None,
                    Err(error) => panic!("{error}"),
                })
            };
            let writers: Vec<_> = texts.iter().enumerate().map(write).collect();
            writers.into_iter().filter_map(|writer| writer.join().unwrap()).collect()
        });
        let there = location.read(&name).unwrap();
        assert!(won.iter().any(|writer| texts[*writer] == there), "{won:?} say that they wrote it");
        several |= won.len() > 1;
        location.remove(&name).unwrap();
    }
    several
}

fn noise(seed: u64, length: usize) -> Vec<u8> {
    let mut rng = fastrand::Rng::with_seed(seed);
    (0..length).map(|_| rng.u8(..)).collect()
}
