//! Sealing: what is stored opens only with one of the identities whose public keys it was encrypted to.
//!
//! The format is age (<https://age-encryption.org/v1>), so that any program for it opens a sealed object. A machine that
//! captures needs public keys only. A passphrase may protect a file of identities; nothing is ever encrypted to one.

use std::fmt;
use std::io::{self, BufRead, BufReader, Read, Write};
use std::str::FromStr;
use std::sync::Arc;

use age::secrecy::{ExposeSecret, SecretString};

use crate::error::StoreError;
use crate::location::SeekRead;

/// How the names of sealed objects end.
pub const SEALED: &str = ".age";
/// A file of identities is not larger than this, in bytes.
const IDENTITIES_MOST: usize = 1 << 20;
/// How costly a passphrase may be to try: 2 to the power of this many steps of scrypt.
const WORK_MOST: u8 = 22;

/// A key or a file of keys cannot be used.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum KeyError {
    /// A text is not a public key.
    #[error("`{0}` is not a public key: write an age public key (`age1…`) or a line of an SSH public key")]
    NotPublic(String),
    /// A secret key stands where a public one must.
    #[error("this is a secret key; only public keys (`age1…`) belong here")]
    Secret,
    /// A line of an identity file is not an identity.
    #[error("line {line} is not an identity (`AGE-SECRET-KEY-1…`)")]
    Line {
        /// The line's number, from 1.
        line: usize,
    },
    /// There is no identity in the file.
    #[error("there is no identity in it")]
    Empty,
    /// A passphrase is needed.
    #[error("it is protected by a passphrase, which was not given")]
    NoPassphrase,
    /// The passphrase is a wrong one.
    #[error("the passphrase does not open it")]
    WrongPassphrase,
    /// An SSH key of a kind that age cannot use.
    #[error("an SSH key of this kind cannot open anything: use ed25519 or RSA")]
    Unsupported,
    /// The file is not one of identities.
    #[error("it is not a file of identities: {0}")]
    Form(String),
}

#[derive(Clone)]
enum Key {
    Age(age::x25519::Recipient),
    Ssh(age::ssh::Recipient),
}

/// One public key.
#[derive(Clone)]
pub struct PublicKey {
    key: Key,
    /// The key as it is written; of an SSH key without its comment.
    text: String,
}

impl FromStr for PublicKey {
    type Err = KeyError;

    fn from_str(text: &str) -> Result<Self, KeyError> {
        let text = text.trim();
        if text.to_ascii_uppercase().starts_with("AGE-SECRET-KEY-") || text.starts_with("-----BEGIN") {
            return Err(KeyError::Secret);
        }
        let wrong = || KeyError::NotPublic(text.chars().take(80).collect());
        if text.starts_with("ssh-") {
            let key: age::ssh::Recipient = text.parse().map_err(|_| wrong())?;
            // What stands after the key itself is a comment.
            let text = text.split_whitespace().take(2).collect::<Vec<_>>().join(" ");
            return Ok(Self { key: Key::Ssh(key), text });
        }
        let key: age::x25519::Recipient = text.parse().map_err(|_| wrong())?;
        Ok(Self { text: key.to_string(), key: Key::Age(key) })
    }
}

impl fmt::Debug for PublicKey {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.text)
    }
}

/// The public keys that something is encrypted to: each of their identities opens it alone. None means not encrypted.
#[derive(Clone, Debug, Default)]
pub struct Recipients(Arc<Vec<PublicKey>>);

impl Recipients {
    /// Reads the keys; they are sorted, and the same one twice is one.
    ///
    /// # Errors
    /// When one of them is not a public key.
    pub fn parse<T: AsRef<str>>(texts: &[T]) -> Result<Self, KeyError> {
        let mut keys = texts.iter().map(|text| text.as_ref().parse()).collect::<Result<Vec<PublicKey>, _>>()?;
        keys.sort_by(|a, b| a.text.cmp(&b.text));
        keys.dedup_by(|a, b| a.text == b.text);
        Ok(Self(Arc::new(keys)))
    }

    /// Whether nothing is encrypted.
    pub fn is_empty(&self) -> bool {
        self.0.is_empty()
    }

    /// The keys as texts, sorted.
    pub fn texts(&self) -> Vec<String> {
        self.0.iter().map(|key| key.text.clone()).collect()
    }

    /// Seals what is written into `out`; [`age::stream::StreamWriter::finish`] completes it.
    pub(crate) fn wrap<W: Write>(&self, out: W) -> io::Result<age::stream::StreamWriter<W>> {
        let keys = self.0.iter().map(|key| match &key.key {
            Key::Age(key) => key as &dyn age::Recipient,
            Key::Ssh(key) => key as &dyn age::Recipient,
        });
        age::Encryptor::with_recipients(keys).map_err(io::Error::other)?.wrap_output(out)
    }

    /// Seals some bytes.
    ///
    /// # Errors
    /// When a key cannot be used.
    pub fn seal(&self, bytes: &[u8]) -> Result<Vec<u8>, StoreError> {
        let sealed = (|| {
            let mut out = self.wrap(Vec::new())?;
            out.write_all(bytes)?;
            out.finish()
        })();
        sealed.map_err(|error| StoreError::Seal(error.to_string()))
    }
}

/// An identity: the secret half of a key, with its public half where that is known.
struct Identity {
    identity: Box<dyn age::Identity + Send + Sync>,
    public: Option<String>,
}

/// Identities that open what was encrypted to their public keys.
#[derive(Clone, Default)]
pub struct Identities(Arc<Vec<Identity>>);

impl fmt::Debug for Identities {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_list().entries(self.publics()).finish()
    }
}

/// Answers the one question that an SSH key under a passphrase asks.
#[derive(Clone)]
struct Passphrase(Option<SecretString>);

impl age::Callbacks for Passphrase {
    fn display_message(&self, _: &str) {}

    fn confirm(&self, _: &str, _: &str, _: Option<&str>) -> Option<bool> {
        None
    }

    fn request_public_string(&self, _: &str) -> Option<String> {
        None
    }

    fn request_passphrase(&self, _: &str) -> Option<SecretString> {
        self.0.clone()
    }
}

impl Identities {
    /// Reads a file of identities: lines of `AGE-SECRET-KEY-1…`, the same sealed with a passphrase by age, or an SSH
    /// private key. `passphrase` is asked for one when it is needed.
    ///
    /// # Errors
    /// When it is not such a file, or the passphrase is missing or wrong.
    pub fn read(bytes: &[u8], passphrase: &dyn Fn() -> Option<String>) -> Result<Self, KeyError> {
        if bytes.len() > IDENTITIES_MOST {
            return Err(KeyError::Form("it is too large".to_owned()));
        }
        if bytes.starts_with(b"age-encryption.org/") || bytes.starts_with(b"-----BEGIN AGE ENCRYPTED FILE-----") {
            let opened = under_passphrase(bytes, passphrase)?;
            return Self::lines(&opened);
        }
        if bytes.starts_with(b"-----BEGIN") {
            return Self::ssh(bytes, passphrase);
        }
        Self::lines(bytes)
    }

    fn lines(bytes: &[u8]) -> Result<Self, KeyError> {
        let mut found = Vec::new();
        for (number, line) in bytes.lines().enumerate() {
            let line = line.map_err(|_| KeyError::Form("it is not a text".to_owned()))?;
            let line = line.trim();
            if line.is_empty() || line.starts_with('#') {
                continue;
            }
            let identity: age::x25519::Identity = line.parse().map_err(|_| KeyError::Line { line: number + 1 })?;
            let public = Some(identity.to_public().to_string());
            found.push(Identity { identity: Box::new(identity), public });
        }
        if found.is_empty() { Err(KeyError::Empty) } else { Ok(Self(Arc::new(found))) }
    }

    fn ssh(bytes: &[u8], passphrase: &dyn Fn() -> Option<String>) -> Result<Self, KeyError> {
        use age::ssh;
        let read = ssh::Identity::from_buffer(bytes, None).map_err(|error| KeyError::Form(error.to_string()))?;
        let public = ssh::Recipient::try_from(read.clone()).ok().map(|public| public.to_string());
        let answer = match &read {
            ssh::Identity::Unencrypted(_) => Passphrase(None),
            ssh::Identity::Encrypted(_) => {
                Passphrase(Some(SecretString::from(passphrase().ok_or(KeyError::NoPassphrase)?)))
            }
            ssh::Identity::Unsupported(_) => return Err(KeyError::Unsupported),
        };
        let identity = Box::new(read.with_callbacks(answer));
        Ok(Self(Arc::new(vec![Identity { identity, public }])))
    }

    /// All of both.
    #[must_use]
    pub fn and(self, other: Self) -> Self {
        let mut all: Vec<Identity> = Vec::new();
        for group in [self.0, other.0] {
            // Just read, so they are not shared yet.
            all.extend(Arc::try_unwrap(group).unwrap_or_default());
        }
        Self(Arc::new(all))
    }

    /// Whether there are none.
    pub fn is_empty(&self) -> bool {
        self.0.is_empty()
    }

    /// The public keys, as far as they are known.
    pub fn publics(&self) -> Vec<String> {
        self.0.iter().filter_map(|identity| identity.public.clone()).collect()
    }

    /// Opens some sealed bytes.
    ///
    /// # Errors
    /// [`StoreError::Locked`] when none of the identities is one that it was encrypted to; [`StoreError::Damaged`] when it is
    /// not what was sealed.
    pub fn open(&self, name: &str, sealed: &[u8]) -> Result<Vec<u8>, StoreError> {
        let mut bytes = Vec::new();
        let mut reader = self.reader(name, io::Cursor::new(sealed))?;
        reader.read_to_end(&mut bytes).map_err(|error| damaged(name, &error.to_string()))?;
        Ok(bytes)
    }

    fn reader<R: Read>(&self, name: &str, sealed: R) -> Result<age::stream::StreamReader<BufReader<R>>, StoreError> {
        use age::DecryptError;
        let buffered = BufReader::with_capacity(64 << 10, sealed);
        let head = age::Decryptor::new_buffered(buffered).map_err(|error| match error {
            DecryptError::Io(error) if error.kind() != io::ErrorKind::UnexpectedEof => {
                crate::PathError::new(name, error).into()
            }
            error => damaged(name, &format!("its encryption cannot be read: {error}")),
        })?;
        head.decrypt(self.0.iter().map(|one| &*one.identity as &dyn age::Identity)).map_err(|error| match error {
            DecryptError::NoMatchingKeys => StoreError::Locked { name: name.to_owned() },
            DecryptError::KeyDecryptionFailed => StoreError::Seal("the passphrase does not open the key".to_owned()),
            error => damaged(name, &format!("its encryption is broken: {error}")),
        })
    }

    /// What is in a sealed object, from any place in it.
    ///
    /// # Errors
    /// As [`Identities::open`].
    pub(crate) fn look_into(&self, name: &str, sealed: Box<dyn SeekRead>) -> Result<Box<dyn SeekRead>, StoreError> {
        Ok(Box::new(self.reader(name, sealed)?))
    }
}

fn damaged(name: &str, what: &str) -> StoreError {
    StoreError::Damaged { name: name.to_owned(), what: what.to_owned() }
}

fn under_passphrase(bytes: &[u8], passphrase: &dyn Fn() -> Option<String>) -> Result<Vec<u8>, KeyError> {
    let form = |error: &dyn fmt::Display| KeyError::Form(error.to_string());
    let head = age::Decryptor::new_buffered(age::armor::ArmoredReader::new(bytes)).map_err(|error| form(&error))?;
    if !head.is_scrypt() {
        return Err(KeyError::Form("it is encrypted to a key, not with a passphrase".to_owned()));
    }
    let mut identity = age::scrypt::Identity::new(SecretString::from(passphrase().ok_or(KeyError::NoPassphrase)?));
    identity.set_max_work_factor(WORK_MOST);
    let mut opened = Vec::new();
    let reader = head.decrypt(std::iter::once(&identity as &dyn age::Identity)).map_err(|error| match error {
        age::DecryptError::DecryptionFailed | age::DecryptError::NoMatchingKeys => KeyError::WrongPassphrase,
        age::DecryptError::KeyDecryptionFailed => KeyError::WrongPassphrase,
        error => form(&error),
    })?;
    reader.take(IDENTITIES_MOST as u64).read_to_end(&mut opened).map_err(|error| form(&error))?;
    Ok(opened)
}

/// A new identity: the text of its file, and its public key. With a passphrase the text is encrypted with it.
///
/// # Errors
/// When sealing with the passphrase fails.
pub fn new_identity(created: &str, passphrase: Option<String>) -> Result<(Vec<u8>, String), KeyError> {
    let identity = age::x25519::Identity::generate();
    let public = identity.to_public().to_string();
    let secret = identity.to_string();
    let text = format!(
        "# The private key of a Gullet store, made {created}. Whoever has it can read what was encrypted to\n\
         #   {public}\n{}\n",
        secret.expose_secret()
    );
    let Some(passphrase) = passphrase else { return Ok((text.into_bytes(), public)) };
    let sealed = (|| {
        let armor = age::armor::ArmoredWriter::wrap_output(Vec::new(), age::armor::Format::AsciiArmor)?;
        let mut out = age::Encryptor::with_user_passphrase(SecretString::from(passphrase)).wrap_output(armor)?;
        out.write_all(text.as_bytes())?;
        out.finish()?.finish()
    })();
    Ok((sealed.map_err(|error: io::Error| KeyError::Form(error.to_string()))?, public))
}

#[cfg(test)]
mod tests {
    use super::*;

    fn pair() -> (Identities, Recipients) {
        let (file, public) = new_identity("today", None).unwrap();
        (Identities::read(&file, &|| None).unwrap(), Recipients::parse(&[public]).unwrap())
    }

    #[test]
    fn one_of_several_keys_opens_and_another_does_not() {
        let ((one, first), (two, second), (other, _)) = (pair(), pair(), pair());
        let both = Recipients::parse(&[first.texts(), second.texts()].concat()).unwrap();
        let sealed = both.seal(b"passenger list").unwrap();
        for identity in [&one, &two] {
            assert_eq!(identity.open("x", &sealed).unwrap(), b"passenger list");
        }
        assert!(matches!(other.open("x", &sealed), Err(StoreError::Locked { .. })));
        assert!(!sealed.windows(9).any(|window| window == b"passenger"));
    }

    #[test]
    fn a_file_of_identities_may_be_so_long_and_no_longer() {
        let (file, _) = new_identity("today", None).unwrap();
        let padded = |length: usize| [file.as_slice(), "#".repeat(length - file.len()).as_bytes()].concat();
        assert!(Identities::read(&padded(IDENTITIES_MOST), &|| None).is_ok());
        assert!(Identities::read(&padded(IDENTITIES_MOST + 1), &|| None).is_err());
    }

    #[test]
    fn every_flipped_byte_of_what_is_sealed_is_noticed() {
        let (identity, keys) = pair();
        let sealed = keys.seal(b"a boarding list that is long enough").unwrap();
        for at in 0..sealed.len() {
            let mut changed = sealed.clone();
            changed[at] ^= 4;
            assert!(identity.open("x", &changed).is_err(), "flip at {at}");
        }
    }

    #[test]
    fn a_passphrase_protects_the_file_and_a_wrong_one_is_told() {
        let (file, public) = new_identity("today", Some("seven gulls".into())).unwrap();
        assert!(file.starts_with(b"-----BEGIN AGE ENCRYPTED FILE-----"));
        let read = |word: Option<&str>| Identities::read(&file, &|| word.map(str::to_owned));
        assert_eq!(read(Some("seven gulls")).unwrap().publics(), [public]);
        assert!(matches!(read(Some("six gulls")), Err(KeyError::WrongPassphrase)));
        assert!(matches!(read(None), Err(KeyError::NoPassphrase)));
    }

    #[test]
    fn keys_are_told_apart_from_other_texts() {
        let (file, public) = new_identity("today", None).unwrap();
        let secret = String::from_utf8(file).unwrap().lines().last().unwrap().to_owned();
        assert!(matches!(secret.parse::<PublicKey>(), Err(KeyError::Secret)));
        assert!(matches!("age1nonsense".parse::<PublicKey>(), Err(KeyError::NotPublic(_))));
        assert_eq!(Recipients::parse(&[&public, &public]).unwrap().texts(), std::slice::from_ref(&public));
        assert!(matches!(Identities::read(public.as_bytes(), &|| None), Err(KeyError::Line { line: 1 })));
        assert!(matches!(Identities::read(b"# only a remark\n", &|| None), Err(KeyError::Empty)));
    }
}
