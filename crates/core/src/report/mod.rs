//! What a ticket says beside what was done: figures, advice, and how to leave names out.

mod advice;
mod figures;
mod redact;

pub use advice::{for_the_maker, for_the_user};
pub use figures::{Figure, figures};
pub use redact::Names;
