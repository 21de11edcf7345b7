//! One file a command.

pub(crate) mod check;
pub(crate) mod compact;
pub(crate) mod completions;
pub(crate) mod demo;
pub(crate) mod describe;
pub(crate) mod format;
pub(crate) mod inspect;
pub(crate) mod manual;
pub(crate) mod plan;
pub(crate) mod run;
pub(crate) mod verify;
