//! Lines, columns and the few styles.

use anstyle::{AnsiColor, Style};
use stubble_core::model::text::shown;

use crate::errors::Explained;

pub const STRONG: Style = Style::new().bold();
pub const QUIET: Style = Style::new().dimmed();
pub const GOOD: Style = AnsiColor::Green.on_default().bold();
pub const BAD: Style = AnsiColor::Red.on_default().bold();
pub const CARE: Style = AnsiColor::Yellow.on_default().bold();
pub const TYPED: Style = AnsiColor::Cyan.on_default().bold();

/// Text in a style.
pub fn styled(style: Style, text: &str) -> String {
    format!("{style}{text}{style:#}")
}

/// A paragraph that begins with `first` and goes on, on further lines, below its text.
pub fn hang(first: &str, text: &str, width: Option<usize>) -> String {
    let indent = " ".repeat(visible(first));
    let Some(width) = width else { return format!("{first}{text}\n") };
    let room = width.saturating_sub(indent.len()).max(24);
    let mut out = String::new();
    for (number, line) in wrapped(text, room).into_iter().enumerate() {
        out.push_str(if number == 0 { first } else { &indent });
        out.push_str(&line);
        out.push('\n');
    }
    out
}

/// Lines of at most `room` columns. A path is broken behind a backslash rather than anywhere, and a
/// command stays on one line.
fn wrapped(text: &str, room: usize) -> Vec<String> {
    let breakable = together(text, room).replace('\\', "\\\u{200B}");
    let options = textwrap::Options::new(room)
        .word_separator(textwrap::WordSeparator::Custom(split_words))
        .word_splitter(textwrap::WordSplitter::NoHyphenation)
        .break_words(true);
    textwrap::wrap(&breakable, options)
        .into_iter()
        .map(|line| line.replace('\u{200B}', "").replace(TIED, " "))
        .collect()
}

/// Stands for a space at which no line is broken: a private character as wide as one.
const TIED: char = '\u{E0B7}';

/// Ties the words between two backticks together, where they fit on a line.
fn together(text: &str, room: usize) -> String {
    let parts: Vec<&str> = text.split('`').collect();
    let closed = parts.len() % 2 == 1;
    let tied = parts.iter().enumerate().map(|(number, part)| {
        let is_command = closed && number % 2 == 1 && part.len() + 2 <= room.min(40);
        if is_command { part.replace(' ', &TIED.to_string()) } else { (*part).to_owned() }
    });
    tied.collect::<Vec<_>>().join("`")
}

/// Words end at spaces and behind backslashes.
fn split_words(line: &str) -> Box<dyn Iterator<Item = textwrap::core::Word<'_>> + '_> {
    Box::new(line.split_inclusive([' ', '\u{200B}']).map(textwrap::core::Word::from))
}

/// Columns that a text takes, without its styles.
fn visible(text: &str) -> usize {
    let plain = anstream::adapter::strip_str(text).to_string();
    textwrap::core::display_width(&plain)
}

/// A line of a list: short columns of fixed width, then the long one.
pub fn row(columns: &[(&str, usize, Style)], last: &str, width: Option<usize>) -> String {
    let mut first = String::from("  ");
    for (text, room, style) in columns {
        let pad = room.saturating_sub(text.chars().count());
        first.push_str(&styled(*style, text));
        first.push_str(&" ".repeat(pad + 2));
    }
    hang(&first, last, width)
}

/// An error: what is, more of it, what to do.
pub fn failure(explained: &Explained) -> String {
    let mut out = format!("{} {}\n", styled(BAD, "stubble:"), shown(&explained.message));
    for detail in &explained.details {
        out.push_str(&format!("  {}\n", shown(detail)));
    }
    out + &format!("{} {}\n", styled(STRONG, "What to do:"), explained.advice)
}
