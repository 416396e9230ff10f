//! Tests of reading, editing and replaying hive files.

mod edits;
mod hives;
mod reg;
mod replay;
mod rounds;
