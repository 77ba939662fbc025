//! The content kinds that every game has: packs and tweaks in formats of ours.

/// The descriptive file's name.
pub const PACK_FILE: &str = "yalotheca-pack.toml";

/// The content kind that every game has: a pack in our format.
pub const PACK_KIND: &str = "yalotheca-pack";

/// What the name of a tweak's file ends in.
pub const TWEAK_SUFFIX: &str = "tweak.toml";

/// The content kind that every game has: a tweak.
pub const TWEAK_KIND: &str = "tweak";
