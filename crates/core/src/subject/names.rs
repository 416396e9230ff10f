//! Names of products and publishers, reduced to what is compared.

use std::sync::LazyLock;

use serde::Deserialize;

#[derive(Deserialize)]
struct Words {
    company: Vec<String>,
    architecture: Vec<String>,
    part: Vec<String>,
}

static WORDS: LazyLock<Words> =
    LazyLock::new(|| toml::from_str(include_str!("../../data/words.toml")).expect("the table is tested"));

/// The words of a product's name, in lower case, without versions and architectures.
///
/// A lone whole number stays: in `Weigh 3` it is part of the name.
pub fn product_words(name: &str) -> Vec<String> {
    let joined = name.to_lowercase().replace("64-bit", "64bit").replace("32-bit", "32bit");
    let words: Vec<&str> = split(&joined).collect();
    let says_version = |at: usize| {
        is_version(words[at])
            || ["version", "ver", "release", "build"].contains(&words[at])
                && words
                    .get(at + 1)
                    .is_some_and(|next| is_version(next) || next.bytes().all(|byte| byte.is_ascii_digit()))
    };
    let is_told = |at: &usize| !says_version(*at) && !WORDS.architecture.iter().any(|other| other == words[*at]);
    (0..words.len()).filter(is_told).map(|at| words[at].to_owned()).collect()
}

/// The words of a publisher's name, in lower case, without the company's form.
pub fn publisher_words(name: &str) -> Vec<String> {
    let lower = name.to_lowercase();
    // `S.r.l.` is one word.
    let plain = lower.replace('.', "").replace(',', " ");
    split(&plain).filter(|word| !WORDS.company.iter().any(|other| other == word)).map(str::to_owned).collect()
}

/// Whether a text, of letters and digits only, consists of words that name a part of a product, and of
/// numbers. Nothing does.
pub fn names_a_part(text: &str) -> bool {
    let rest = text.trim_start_matches(|letter: char| letter.is_ascii_digit());
    let begins = |word: &&String| rest.starts_with(word.as_str());
    rest.is_empty() || WORDS.part.iter().filter(begins).any(|word| names_a_part(&rest[word.len()..]))
}

/// Words written together, as folders and keys often have them.
pub fn together(words: &[String]) -> String {
    words.concat()
}

/// A folder's or key's name reduced to letters and digits.
pub fn squashed(name: &str) -> String {
    name.to_lowercase().chars().filter(|letter| letter.is_alphanumeric()).collect()
}

fn split(text: &str) -> impl Iterator<Item = &str> {
    text.split(|letter: char| !(letter.is_alphanumeric() || letter == '.'))
        .map(|word| word.trim_matches('.'))
        .filter(|word| !word.is_empty())
}

fn is_version(word: &str) -> bool {
    let digits = word.strip_prefix('v').unwrap_or(word);
    let marked = digits.len() < word.len() || digits.contains('.');
    marked && digits.split('.').all(|part| !part.is_empty() && part.bytes().all(|digit| digit.is_ascii_digit()))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn versions_architectures_and_company_forms_say_nothing() {
        assert_eq!(product_words("Quernlight Scale Desk 5.1.2 (64-bit)"), ["quernlight", "scale", "desk"]);
        assert_eq!(product_words("Quernlight Weigh 3 v3.4"), ["quernlight", "weigh", "3"]);
        assert_eq!(publisher_words("Fennelgate Instruments Ltd."), ["fennelgate", "instruments"]);
        assert_eq!(squashed("Quernlight Scale-Desk"), "quernlightscaledesk");
    }
}
