//! The conditional expressions of installer packages, parsed and evaluated.
//!
//! Grammar and meaning are those of the publicly documented conditional statement syntax:
//! `NOT`, `AND`, `OR`, `XOR`, `EQV` and `IMP` in that order of binding, comparisons of whole
//! numbers and texts, `~` for any case, and the substring or bit operators `><`, `<<` and `>>`.

use thiserror::Error;

use crate::model::text::fold;

/// Deepest nesting that is read; more is hostile.
const DEEPEST: usize = 64;

/// Why a condition cannot be read.
#[derive(Clone, Debug, PartialEq, Eq, Error)]
#[error("the condition cannot be read at character {at}: {what}")]
pub struct ConditionError {
    /// Byte offset in the condition.
    pub at: usize,
    /// What is wrong there.
    pub what: &'static str,
}

/// A parsed condition.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Condition(Expr);

#[derive(Clone, Debug, PartialEq, Eq)]
enum Expr {
    Always,
    Term(Term),
    Not(Box<Expr>),
    Join(Join, Box<Expr>, Box<Expr>),
    Compare(Term, Compare, bool, Term),
}

#[derive(Clone, Debug, PartialEq, Eq)]
enum Term {
    Property(String),
    Environment(String),
    /// State of a component or feature (`?`, `$`, `&`, `!`): nothing is known before the install.
    State,
    Text(String),
    Number(i32),
}

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Join {
    And,
    Or,
    Xor,
    Eqv,
    Imp,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Compare {
    Equal,
    Unequal,
    Less,
    Greater,
    AtMost,
    AtLeast,
    Contains,
    Starts,
    Ends,
}

/// Joining words from the loosest to the tightest.
const JOINS: [(&str, Join); 5] =
    [("IMP", Join::Imp), ("EQV", Join::Eqv), ("XOR", Join::Xor), ("OR", Join::Or), ("AND", Join::And)];

const COMPARES: [(&str, Compare); 9] = [
    ("<>", Compare::Unequal),
    ("<=", Compare::AtMost),
    (">=", Compare::AtLeast),
    ("><", Compare::Contains),
    ("<<", Compare::Starts),
    (">>", Compare::Ends),
    ("<", Compare::Less),
    (">", Compare::Greater),
    ("=", Compare::Equal),
];

impl Condition {
    /// Reads a condition; an empty one always holds.
    pub fn parse(text: &str) -> Result<Self, ConditionError> {
        let mut parser = Parser { text, at: 0, depth: 0 };
        parser.skip();
        if parser.rest().is_empty() {
            return Ok(Self(Expr::Always));
        }
        let expr = parser.joined(0)?;
        match parser.rest() {
            "" => Ok(Self(expr)),
            _ => Err(parser.error("something stands behind its end")),
        }
    }

    /// Whether it holds; `property` and `environment` give the values, empty where not set.
    pub fn holds(&self, property: &dyn Fn(&str) -> String, environment: &dyn Fn(&str) -> String) -> bool {
        Values { property, environment }.holds(&self.0)
    }

    /// Names of the properties that it asks for, in order.
    pub fn properties(&self) -> Vec<&str> {
        let mut names = Vec::new();
        collect(&self.0, &mut names);
        names
    }
}

fn collect<'e>(expr: &'e Expr, names: &mut Vec<&'e str>) {
    let mut term = |term: &'e Term| {
        if let Term::Property(name) = term {
            names.push(name);
        }
    };
    match expr {
        Expr::Always => {}
        Expr::Term(one) => term(one),
        Expr::Compare(left, _, _, right) => {
            term(left);
            term(right);
        }
        Expr::Not(inner) => collect(inner, names),
        Expr::Join(_, left, right) => {
            collect(left, names);
            collect(right, names);
        }
    }
}

struct Parser<'t> {
    text: &'t str,
    at: usize,
    depth: usize,
}

impl<'t> Parser<'t> {
    fn rest(&self) -> &'t str {
        &self.text[self.at..]
    }

    fn error(&self, what: &'static str) -> ConditionError {
        ConditionError { at: self.at, what }
    }

    fn skip(&mut self) {
        let rest = self.rest();
        self.at += rest.len() - rest.trim_start().len();
    }

    /// The next word of letters, digits, `_` and `.`, not consumed.
    fn word(&self) -> &'t str {
        let rest = self.rest();
        let end = rest.find(|letter: char| !(letter.is_ascii_alphanumeric() || matches!(letter, '_' | '.')));
        &rest[..end.unwrap_or(rest.len())]
    }

    fn eat(&mut self, token: &str) -> bool {
        let found = self.rest().starts_with(token);
        if found {
            self.at += token.len();
            self.skip();
        }
        found
    }

    fn eat_word(&mut self, word: &str) -> bool {
        let found = self.word().eq_ignore_ascii_case(word);
        if found {
            self.at += word.len();
            self.skip();
        }
        found
    }

    fn joined(&mut self, level: usize) -> Result<Expr, ConditionError> {
        let Some((word, join)) = JOINS.get(level) else { return self.negated() };
        let mut left = self.joined(level + 1)?;
        while self.eat_word(word) {
            let right = self.joined(level + 1)?;
            left = Expr::Join(*join, Box::new(left), Box::new(right));
        }
        Ok(left)
    }

    fn negated(&mut self) -> Result<Expr, ConditionError> {
        self.depth += 1;
        if self.depth > DEEPEST {
            return Err(self.error("it is nested too deeply"));
        }
        let expr = if self.eat_word("NOT") {
            Expr::Not(Box::new(self.negated()?))
        } else if self.eat("(") {
            let inner = self.joined(0)?;
            if !self.eat(")") {
                return Err(self.error("a closing bracket is missing"));
            }
            inner
        } else {
            self.compared()?
        };
        self.depth -= 1;
        Ok(expr)
    }

    fn compared(&mut self) -> Result<Expr, ConditionError> {
        let left = self.term()?;
        let any_case = self.eat("~");
        for (token, compare) in COMPARES {
            if self.eat(token) {
                let right = self.term()?;
                return Ok(Expr::Compare(left, compare, any_case, right));
            }
        }
        if any_case { Err(self.error("an operator is missing after `~`")) } else { Ok(Expr::Term(left)) }
    }

    fn term(&mut self) -> Result<Term, ConditionError> {
        let rest = self.rest();
        let term = match rest.chars().next() {
            Some('"') => {
                let Some(end) = rest[1..].find('"') else { return Err(self.error("a closing quote is missing")) };
                self.at += end + 2;
                Term::Text(rest[1..=end].to_owned())
            }
            Some('%') => {
                self.at += 1;
                Term::Environment(self.name()?)
            }
            Some('?' | '$' | '&' | '!') => {
                self.at += 1;
                self.name()?;
                Term::State
            }
            Some('-' | '0'..='9') => {
                let digits = rest[1..].find(|letter: char| !letter.is_ascii_digit()).unwrap_or(rest.len() - 1) + 1;
                let number = rest[..digits].parse().map_err(|_| self.error("a number is too large"))?;
                self.at += digits;
                Term::Number(number)
            }
            _ => Term::Property(self.name()?),
        };
        self.skip();
        Ok(term)
    }

    fn name(&mut self) -> Result<String, ConditionError> {
        let word = self.word();
        let reserved =
            word.eq_ignore_ascii_case("NOT") || JOINS.iter().any(|(join, _)| word.eq_ignore_ascii_case(join));
        if word.is_empty() || reserved {
            return Err(self.error("a property, number or text is missing"));
        }
        self.at += word.len();
        Ok(word.to_owned())
    }
}

struct Values<'v> {
    property: &'v dyn Fn(&str) -> String,
    environment: &'v dyn Fn(&str) -> String,
}

impl Values<'_> {
    fn holds(&self, expr: &Expr) -> bool {
        match expr {
            Expr::Always => true,
            Expr::Term(Term::Number(number)) => *number != 0,
            Expr::Term(term) => !self.value(term).is_empty(),
            Expr::Not(inner) => !self.holds(inner),
            Expr::Join(join, left, right) => {
                let (left, right) = (self.holds(left), self.holds(right));
                match join {
                    Join::And => left && right,
                    Join::Or => left || right,
                    Join::Xor => left != right,
                    Join::Eqv => left == right,
                    Join::Imp => !left || right,
                }
            }
            Expr::Compare(left, compare, any_case, right) => self.compare(left, *compare, *any_case, right),
        }
    }

    fn value(&self, term: &Term) -> String {
        match term {
            Term::Property(name) => (self.property)(name),
            Term::Environment(name) => (self.environment)(name),
            Term::State => String::new(),
            Term::Text(text) => text.clone(),
            Term::Number(number) => number.to_string(),
        }
    }

    /// Two numbers are compared as numbers. A text literal is always text, and a number against
    /// what is no number is unequal to it and nothing else.
    fn compare(&self, left: &Term, compare: Compare, any_case: bool, right: &Term) -> bool {
        let (a, b) = (self.value(left), self.value(right));
        let literal = matches!(left, Term::Text(_)) || matches!(right, Term::Text(_));
        if !literal {
            match (a.parse::<i32>(), b.parse::<i32>()) {
                (Ok(a), Ok(b)) => return numbers(a, compare, b),
                _ if matches!(left, Term::Number(_)) || matches!(right, Term::Number(_)) => {
                    return compare == Compare::Unequal;
                }
                _ => {}
            }
        }
        let (a, b) = if any_case { (fold(&a), fold(&b)) } else { (a, b) };
        match compare {
            Compare::Equal => a == b,
            Compare::Unequal => a != b,
            Compare::Less => a < b,
            Compare::Greater => a > b,
            Compare::AtMost => a <= b,
            Compare::AtLeast => a >= b,
            Compare::Contains => a.contains(&b),
            Compare::Starts => a.starts_with(&b),
            Compare::Ends => a.ends_with(&b),
        }
    }
}

fn numbers(a: i32, compare: Compare, b: i32) -> bool {
    match compare {
        Compare::Equal => a == b,
        Compare::Unequal => a != b,
        Compare::Less => a < b,
        Compare::Greater => a > b,
        Compare::AtMost => a <= b,
        Compare::AtLeast => a >= b,
        Compare::Contains => a & b != 0,
        Compare::Starts => a >> 16 == b,
        Compare::Ends => a & 0xFFFF == b,
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    fn holds(text: &str) -> bool {
        let property = |name: &str| match name {
            "WEIGH3FOUND" => "{00000000-0000-0000-0000-000000000003}".to_owned(),
            "VersionNT" => "603".to_owned(),
            "Name" => "Scale Desk".to_owned(),
            _ => String::new(),
        };
        Condition::parse(text).unwrap().holds(&property, &|_| "AMD64".to_owned())
    }

    #[test]
    fn documented_meaning() {
        for (text, expected) in [
            ("", true),
            ("NOT WEIGH3FOUND", false),
            ("Installed OR NOT WEIGH3FOUND", false),
            ("VersionNT >= 601", true),
            ("VersionNT>=1000", false),
            ("VersionNT = \"603\"", true),
            ("Name = \"scale desk\"", false),
            ("Name ~= \"scale desk\"", true),
            ("Name >< \"ale\" AND Name << \"Scale\" AND Name >> \"Desk\"", true),
            ("Name = 5", false),
            ("Name <> 5", true),
            ("NOT A AND NOT B", true),
            ("A OR B IMP C", true),
            ("1 XOR 1", false),
            ("A EQV B", true),
            ("%PROCESSOR_ARCHITECTURE = \"AMD64\"", true),
            ("$Bridge = 3 OR (1 AND (VersionNT > -5))", true),
        ] {
            assert_eq!(holds(text), expected, "{text}");
        }
    }

    #[test]
    fn what_is_no_condition() {
        for text in ["AND", "(A", "A B", "\"open", "A ~ B", "A =", "99999999999", &"(".repeat(500)] {
            assert!(Condition::parse(text).is_err(), "{text}");
        }
    }

    proptest! {
        #[test]
        fn any_text_is_read_or_refused(text in "[ABNOTRDXEQVIMP()<>=~\"%$0-9 -]{0,40}|\\PC{0,20}") {
            if let Ok(condition) = Condition::parse(&text) {
                condition.holds(&|_| String::new(), &|_| String::new());
            }
        }

        #[test]
        fn implication_is_not_left_or_right(left in any::<bool>(), right in any::<bool>()) {
            let text = format!("{} IMP {}", i32::from(left), i32::from(right));
            prop_assert_eq!(holds(&text), !left || right);
        }
    }
}
