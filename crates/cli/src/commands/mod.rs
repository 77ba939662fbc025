//! One file a command.

pub(crate) mod about;
pub(crate) mod add;
pub(crate) mod adopt;
pub(crate) mod apply;
pub(crate) mod catalogue;
pub(crate) mod check;
pub(crate) mod clean;
pub(crate) mod demo;
pub(crate) mod drop;
pub(crate) mod find;
pub(crate) mod game;
pub(crate) mod history;
pub(crate) mod links;
pub(crate) mod maps;
pub(crate) mod modpack;
pub(crate) mod order;
pub(crate) mod repair;
pub(crate) mod settings;
pub(crate) mod settle;
pub(crate) mod stand_in;
pub(crate) mod stop;
pub(crate) mod trial;
pub(crate) mod undo;
pub(crate) mod update;
pub(crate) mod why;
