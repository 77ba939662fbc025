//! Types that are written as one text: how they are read and written, without a copy of the text in between.

/// Has a type read from and written as its text, by `FromStr` and `as_text`.
macro_rules! text_form {
    ($name:ty, $what:literal) => {
        impl serde::Serialize for $name {
            fn serialize<S: serde::Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
                serializer.collect_str(self)
            }
        }
        impl<'de> serde::Deserialize<'de> for $name {
            fn deserialize<D: serde::Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
                struct Reader;
                impl serde::de::Visitor<'_> for Reader {
                    type Value = $name;
                    fn expecting(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
                        f.write_str($what)
                    }
                    fn visit_str<E: serde::de::Error>(self, text: &str) -> Result<$name, E> {
                        text.parse().map_err(E::custom)
                    }
                }
                deserializer.deserialize_str(Reader)
            }
        }
    };
}

pub(crate) use text_form;
