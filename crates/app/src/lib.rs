//! The use cases of Yalotheca, for any front end: it opens a [`Server`], calls a use case, and shows the report.
//!
//! Nothing here knows a command line, prints, or asks the terminal: questions go through [`Prompt`], and what happens on the way is an
//! [`Event`].

pub mod apply;
pub mod catalogues;
pub mod error;
pub mod findings;
pub mod front;
mod limits;
pub mod live;
pub mod maps;
pub mod mirror;
pub mod on_copy;
pub mod ops;
pub mod pack;
pub mod pause;
pub mod plan;
pub mod process;
pub mod reading;
pub mod remote;
pub mod secrets;
pub mod server;
pub mod take_over;
pub mod words;

pub use catalogues::{Fresh, Mend, OpenCatalogues};
pub use error::AppError;
pub use front::{Answer, Event, Front, Progress, Prompt};
pub use server::{OpenOptions, Purpose, Server, WhileRunning};
