//! How results look as text.

pub(crate) mod advice;
pub(crate) mod bars;
pub(crate) mod change;
pub(crate) mod finding;
pub(crate) mod lineup;
pub(crate) mod order;
mod page;
pub(crate) mod recovered;
mod visible;
pub(crate) mod waiting;

pub(crate) use page::{Cell, Page, Role};
pub(crate) use visible::visible;
pub(crate) use yalotheca_app::words::{count, size};

/// Something that can be put on a page.
pub(crate) trait View {
    /// Puts it there.
    fn view(&self, page: &mut Page);
}
