//! Takes secrets out of what a process prints while it prints it: before it is judged, cut, shown or kept.

/// What stands in the place of a secret.
const INSTEAD: &[u8] = b"[secret]";

/// Takes secrets out of one stream, however its bytes come in pieces.
#[derive(Debug, Default)]
pub struct Redactor {
    /// The longest first, so that of two that begin alike the whole one goes.
    secrets: Vec<Vec<u8>>,
    /// The end of what came so far, where a secret may begin in it.
    held_back: Vec<u8>,
}

impl Redactor {
    /// One for a stream in which none of these must appear.
    pub fn new(secrets: &[String]) -> Self {
        let mut secrets: Vec<Vec<u8>> =
            secrets.iter().filter(|secret| !secret.is_empty()).map(|secret| secret.clone().into_bytes()).collect();
        secrets.sort_by_key(|secret| std::cmp::Reverse(secret.len()));
        Self { secrets, held_back: Vec::new() }
    }

    /// More of the stream; gives what is certain to have no secret in it.
    pub fn push(&mut self, bytes: &[u8]) -> Vec<u8> {
        if self.secrets.is_empty() {
            return bytes.to_vec();
        }
        let mut all = std::mem::take(&mut self.held_back);
        all.extend_from_slice(bytes);
        let mut clean = Vec::with_capacity(all.len());
        let mut at = 0;
        while at < all.len() {
            let rest = &all[at..];
            // One that began and has not ended yet may be longer than one that has.
            if self.secrets.iter().any(|secret| rest.len() < secret.len() && secret.starts_with(rest)) {
                break;
            }
            match self.secrets.iter().find(|secret| rest.starts_with(secret)) {
                Some(secret) => {
                    clean.extend_from_slice(INSTEAD);
                    at += secret.len();
                }
                None => {
                    clean.push(all[at]);
                    at += 1;
                }
            }
        }
        self.held_back = all.split_off(at);
        clean
    }

    /// The end of the stream.
    pub fn finish(&mut self) -> Vec<u8> {
        let rest = std::mem::take(&mut self.held_back);
        if rest.is_empty() { rest } else { redact(&String::from_utf8_lossy(&rest), &self.texts()).into_bytes() }
    }

    fn texts(&self) -> Vec<String> {
        self.secrets.iter().map(|secret| String::from_utf8_lossy(secret).into_owned()).collect()
    }
}

/// The text without any of the secrets.
pub(crate) fn redact(text: &str, secrets: &[String]) -> String {
    let mut secrets: Vec<&String> = secrets.iter().filter(|secret| !secret.is_empty()).collect();
    secrets.sort_by_key(|secret| std::cmp::Reverse(secret.len()));
    secrets.iter().fold(text.to_owned(), |clean, secret| clean.replace(secret.as_str(), "[secret]"))
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    fn clean(secrets: &[&str], pieces: &[&str]) -> String {
        let secrets: Vec<String> = secrets.iter().map(|secret| (*secret).to_owned()).collect();
        let mut redactor = Redactor::new(&secrets);
        let mut all: Vec<u8> = pieces.iter().flat_map(|piece| redactor.push(piece.as_bytes())).collect();
        all.extend(redactor.finish());
        String::from_utf8(all).unwrap()
    }

    #[test]
    fn a_secret_in_pieces_is_found_and_the_longest_wins() {
        assert_eq!(clean(&["sesame"], &["open ses", "ame now"]), "open [secret] now");
        assert_eq!(clean(&["sesame"], &["s", "e", "s", "e", "s", "a", "m", "e"]), "se[secret]");
        assert_eq!(clean(&["abc", "abcdef"], &["xabc", "defx"]), "x[secret]x");
        assert_eq!(clean(&["abc", "abcdef"], &["xabc", "dex"]), "x[secret]dex");
        assert_eq!(clean(&["sesame"], &["open ses"]), "open ses");
        assert_eq!(clean(&[""], &["as it is"]), "as it is");
    }

    proptest! {
        #[test]
        fn no_way_of_cutting_lets_a_secret_through(text in "[ab]{0,30}", secret in "[ab]{1,4}", cuts in proptest::collection::vec(0usize..30, 0..6)) {
            let mut cuts: Vec<usize> = cuts.into_iter().map(|cut| cut.min(text.len())).collect();
            cuts.extend([0, text.len()]);
            cuts.sort_unstable();
            let pieces: Vec<&str> = cuts.windows(2).map(|pair| &text[pair[0]..pair[1]]).collect();
            let cleaned = clean(&[&secret], &pieces);
            prop_assert!(!cleaned.replace("[secret]", "|").contains(&secret), "{cleaned}");
        }
    }
}
