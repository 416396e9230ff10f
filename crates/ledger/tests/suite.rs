//! Tests of journal, vault and undo, with power cuts.

mod contested;
mod power;
mod replace;
mod set_back;
mod stage;
mod strangers;
mod together;
mod uninstaller;
