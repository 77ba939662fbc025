//! The use cases, one a file: from a request to a report.

pub mod about;
pub mod find;
pub mod links;
pub mod list;
pub mod why;
