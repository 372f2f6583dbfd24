//! Commands as a person would type them.

use super::CommandSpec;

/// A command as a person would type it.
pub fn command_text(command: &CommandSpec) -> String {
    if let Some((method, url)) = command.asked() {
        return format!("{method} {url}");
    }
    match (&command.run, &command.script) {
        (Some(run), _) => shell_words(run),
        (None, Some(script)) => {
            let interpreter =
                command.interpreter.clone().unwrap_or_else(|| vec!["/bin/sh".to_owned(), "-eu".to_owned()]);
            let first = script.lines().find(|line| !line.trim().is_empty()).unwrap_or("").trim();
            format!("{} <script: {first} …>", shell_words(&interpreter))
        }
        (None, None) => String::new(),
    }
}

/// Arguments joined so that a shell would read them apart again.
pub fn shell_words(words: &[String]) -> String {
    let plain = |c: char| c.is_ascii_alphanumeric() || "-_./:=@%+,{}".contains(c);
    let quote = |word: &String| {
        if !word.is_empty() && word.chars().all(plain) {
            word.clone()
        } else {
            format!("'{}'", word.replace('\'', "'\\''"))
        }
    };
    words.iter().map(quote).collect::<Vec<_>>().join(" ")
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn arguments_are_shown_so_that_they_can_be_typed() {
        let words = ["a b", "it's", "", "--x=1"].map(str::to_owned);
        assert_eq!(shell_words(&words), r"'a b' 'it'\''s' '' --x=1");
    }
}
