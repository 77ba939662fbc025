//! Any bytes as a json file: an error or a document, and edits of it; never a panic.
#![no_main]

libfuzzer_sys::fuzz_target!(|bytes: &[u8]| yalotheca_fuzz::try_all(yalotheca_core::document::Format::Json, bytes));
