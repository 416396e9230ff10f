//! Codes and error messages as logs of all kinds write them.

use super::{Code, meanings};

/// A number behind one of these words is an error code.
const BEFORE: [&str; 9] = [
    "error code ",
    "exit code ",
    "exit code: ",
    "result: ",
    "return code ",
    "returned ",
    "error ",
    "error: ",
    "code: ",
];

/// The first code in a line: `0x80070005`, or a number behind a word that says that it is one.
pub fn code_in(line: u64, text: &str) -> Option<Code> {
    let lower = text.to_ascii_lowercase();
    let hexadecimal = lower.match_indices("0x").find_map(|(at, _)| {
        let digits: String = lower[at + 2..].chars().take_while(char::is_ascii_hexdigit).collect();
        (digits.len() >= 3 && digits.len() <= 8).then(|| u32::from_str_radix(&digits, 16).ok())?
    });
    if let Some(number) = hexadecimal.filter(|number| *number != 0) {
        let meaning = meanings::system(number).map(str::to_owned);
        return Some(Code { line, code: format!("0x{number:08X}"), meaning });
    }
    BEFORE.iter().find_map(|word| {
        let at = lower.find(word)? + word.len();
        let digits: String = lower[at..].chars().take_while(char::is_ascii_digit).collect();
        let number = digits.parse::<u32>().ok().filter(|number| *number != 0)?;
        let meaning = meanings::system(number).map(str::to_owned);
        Some(Code { line, code: number.to_string(), meaning })
    })
}

/// The number of the package installer's message `Error 1920. …`, or `Error 1920.…`.
pub fn message_number(text: &str) -> Option<u32> {
    let at = text.find("Error ")? + "Error ".len();
    let digits: String = text[at..].chars().take_while(char::is_ascii_digit).collect();
    let rest = &text[at + digits.len()..];
    if digits.len() != 4 || !(rest.starts_with('.') || rest.starts_with(':') || rest.is_empty()) {
        return None;
    }
    digits.parse().ok()
}

/// A system's error number that the package installer adds: `System error 5`, `GetLastError: 32`.
pub fn system_error(line: u64, text: &str) -> Option<Code> {
    let lower = text.to_ascii_lowercase();
    ["system error ", "system error code: ", "getlasterror: "].iter().find_map(|word| {
        let at = lower.find(word)? + word.len();
        let digits: String = lower[at..].chars().take_while(char::is_ascii_digit).collect();
        let number = digits.parse::<u32>().ok().filter(|number| *number != 0)?;
        Some(Code { line, code: number.to_string(), meaning: meanings::system(number).map(str::to_owned) })
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn codes_are_found_and_unknown_ones_are_called_so() {
        let code = |text| code_in(1, text).map(|code| (code.code, code.meaning.is_some()));
        assert_eq!(code("failed with 0x80070005"), Some(("0x80070005".into(), true)));
        assert_eq!(code("Exit code: 1618"), Some(("1618".into(), true)));
        assert_eq!(code("error 424242 in module"), Some(("424242".into(), false)));
        assert_eq!(code("result: 0x0, no error"), None);
        assert_eq!(code("0 errors"), None);
    }

    #[test]
    fn message_numbers_have_four_digits() {
        assert_eq!(message_number("Product: Scale Desk -- Error 1920. Service 'Bridge'"), Some(1920));
        assert_eq!(message_number("Error 0x643"), None);
        assert_eq!(message_number("Error 12: no"), None);
    }
}
