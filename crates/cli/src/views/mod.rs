//! Views: pure functions from documents to text.

pub mod html;
pub mod markdown;
mod pictures;
pub mod terminal;
pub mod tsv;
pub mod words;
