//! The use cases, one a file: from a request to a report.

pub mod about;
pub mod add;
pub mod adopt;
pub mod catalogues;
pub mod change;
pub mod check;
pub mod export;
pub mod find;
pub mod find_files;
pub mod fix;
pub mod history;
pub mod links;
pub mod list;
pub mod maps;
pub mod order;
pub mod remove;
pub mod repair;
pub mod settings;
pub mod settle;
pub mod stop;
pub mod switch;
pub mod trial;
pub mod try_map;
pub mod undo;
pub mod update;
pub mod why;
