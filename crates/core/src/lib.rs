//! The model and the computations of Yalotheca.
//!
//! Everything here is a value or a pure function over values: no files, no network, no clock, no environment. The
//! host crate brings the world in and carries changes out; the cli crate speaks with people.

// The readers and the judges of the tests beside the crate serve those inside it as well.
#[cfg(test)]
extern crate self as yalotheca_core;

pub mod catalogue;
pub mod change;
pub mod check;
pub mod clash;
pub mod control;
pub mod desire;
pub mod diagnose;
pub mod document;
pub mod game;
pub mod hint;
pub mod id;
pub mod isolate;
pub mod link;
pub mod merge;
pub mod mirror;
pub mod order;
pub mod pack;
pub mod reference;
pub mod rehearse;
pub mod route;
mod sets;
pub mod settings;
pub mod solve;
pub mod suggest;
mod text_form;
pub mod toml_file;
pub mod tweak;
pub mod version;
