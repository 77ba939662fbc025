//! Stand-ins: servers of invented games, catalogue hosts, and the demo data.
//!
//! Written from docs/games alone. Nothing here knows the core, so that a test through a stand-in is a real witness.

pub mod catalogue_host;
pub mod file_host;
pub mod ftp_host;
mod joining;
pub mod kitehollow;
pub mod kites;
pub mod moor;
pub mod mossgarrow;
pub mod quayside;
pub mod relay;
pub mod saltwick;
pub mod ssh_host;
