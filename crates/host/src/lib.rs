//! What Yalotheca does to the world: server folders, catalogues, downloads, settling, supervised starts.
//!
//! Nothing here prints; everything returns values or typed errors. What can be computed without the world is in core.

pub mod archive;
pub mod arrival;
mod cache_file;
pub mod catalogue;
pub mod compress;
pub mod console;
pub mod container;
pub mod control;
pub mod fetch;
pub mod foreign_digest;
pub mod games;
pub mod interrupt;
pub mod joining;
mod log_lines;
pub mod mirror;
pub mod pack;
pub mod pack_archive;
mod process;
pub mod running;
pub mod runtimes;
pub mod server_copy;
pub mod settle;
pub mod signatures;
pub mod sources;
pub mod store;
pub mod survey;
mod threads;
pub mod tree;
pub mod trial;
pub mod trust;
pub mod unpack;
pub mod watch;
pub mod zip_out;
