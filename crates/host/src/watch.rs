//! Who looks on while something is fetched.

/// Looks on. Every call may come from another thread.
pub trait Watch: Send + Sync + std::fmt::Debug {
    /// So many downloads are about to begin, with so many bytes in all as far as that is known.
    fn expect(&self, _files: usize, _bytes: u64) {}
    /// A download begins: what it is, how many bytes there were already, and how many there will be. Returns its number.
    fn begin(&self, _name: &str, _there: u64, _total: Option<u64>) -> usize {
        0
    }
    /// The host told how many bytes there will be; so many are there (fewer than before, where it begins anew).
    fn sized(&self, _download: usize, _there: u64, _total: u64) {}
    /// So many bytes more have come.
    fn came(&self, _download: usize, _bytes: u64) {}
    /// It is called otherwise from now on: `412 of 5002 files`.
    fn renamed(&self, _download: usize, _name: &str) {}
    /// A download is tried again, and why.
    fn again(&self, _download: usize, _why: &str) {}
    /// A download has ended.
    fn end(&self, _download: usize) {}
    /// All have.
    fn all_done(&self) {}
}

/// Nobody looks on.
#[derive(Debug, Clone, Copy)]
pub struct Nobody;

impl Watch for Nobody {}
