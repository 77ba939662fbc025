//! Types that are written as one text: how they are read and written, without a copy of the text in between.

use std::{cell::RefCell, collections::HashMap, str::FromStr};

use foldhash::fast::RandomState;

/// Has a type read from its text by `FromStr` and written as it: `held as` where a method returns the text; `pooled` where
/// `Display` writes it (`pooled as` where a method returns it) and equal texts share a value.
macro_rules! text_form {
    ($name:ty, $what:literal, held as $text:ident) => {
        impl serde::Serialize for $name {
            fn serialize<S: serde::Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
                serializer.serialize_str(self.$text().as_ref())
            }
        }
        crate::text_form::text_form!($name, $what, in str::parse);
    };
    ($name:ty, $what:literal, pooled) => {
        impl serde::Serialize for $name {
            fn serialize<S: serde::Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
                serializer.collect_str(self)
            }
        }
        crate::text_form::text_form!($name, $what, in pool);
    };
    ($name:ty, $what:literal, pooled as $text:ident) => {
        impl serde::Serialize for $name {
            fn serialize<S: serde::Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
                serializer.serialize_str(self.$text())
            }
        }
        crate::text_form::text_form!($name, $what, in pool);
    };
    ($name:ty, $what:literal, in pool) => {
        crate::text_form::text_form!($name, $what, in crate::text_form::Pooled::read);
        impl crate::text_form::Pooled for $name {
            fn with_pool<R>(act: impl FnOnce(&crate::text_form::Pool<Self>) -> R) -> R {
                thread_local! {
                    static POOL: crate::text_form::Pool<$name> = std::cell::RefCell::default();
                }
                POOL.with(act)
            }
        }
    };
    ($name:ty, $what:literal, in $read:path) => {
        impl<'de> serde::Deserialize<'de> for $name {
            fn deserialize<D: serde::Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
                struct Reader;
                impl serde::de::Visitor<'_> for Reader {
                    type Value = $name;
                    fn expecting(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
                        f.write_str($what)
                    }
                    fn visit_str<E: serde::de::Error>(self, text: &str) -> Result<$name, E> {
                        $read(text).map_err(E::custom)
                    }
                }
                deserializer.deserialize_str(Reader)
            }
        }
    };
}

pub(crate) use text_form;

/// Values by their text, as far as a thread has read them lately.
pub(crate) type Pool<T> = RefCell<HashMap<Box<str>, T, RandomState>>;

/// So many texts are kept.
const ROOM: usize = 4096;

/// Read from texts of which a catalogue has very many, and few different ones: those that are the same share a value.
pub(crate) trait Pooled: Clone + FromStr + 'static {
    /// Has something done with this thread's pool.
    fn with_pool<R>(act: impl FnOnce(&Pool<Self>) -> R) -> R;

    /// Reads a text, or returns what was read of it before.
    ///
    /// # Errors
    /// As reading it has them.
    fn read(text: &str) -> Result<Self, Self::Err> {
        Self::with_pool(|pool| {
            if let Some(known) = pool.borrow().get(text) {
                return Ok(known.clone());
            }
            let read: Self = text.parse()?;
            let mut pool = pool.borrow_mut();
            if pool.len() >= ROOM {
                pool.clear();
            }
            pool.insert(text.into(), read.clone());
            Ok(read)
        })
    }
}
