//! Writing packs in our own format.

use std::{
    fs::{File, Permissions},
    io::{self, Write},
    os::unix::fs::PermissionsExt,
    path::{Path, PathBuf},
};

use yalotheca_core::{game::PACK_FILE, pack::Pack};
use zip::{CompressionMethod, DateTime, ZipWriter, write::SimpleFileOptions};

/// What goes into a pack besides its description.
#[derive(Debug, Clone)]
pub enum Piece {
    /// A file as it is.
    File(PathBuf),
    /// Files that are put into an archive of their own, by their paths in it.
    Archive(Vec<(String, PathBuf)>),
}

fn options() -> SimpleFileOptions {
    // The same lineup gives the same bytes.
    SimpleFileOptions::default()
        .compression_method(CompressionMethod::Deflated)
        .last_modified_time(DateTime::default())
        .large_file(true)
}

/// Writes a pack: under another name first, then renamed. `pieces` go by their names in the pack.
///
/// # Errors
/// Where a piece cannot be read or the pack cannot be written.
pub fn write_pack(path: &Path, pack: &Pack, pieces: &[(String, Piece)]) -> io::Result<()> {
    let folder = path.parent().filter(|folder| !folder.as_os_str().is_empty()).unwrap_or(Path::new("."));
    let mut file = tempfile::Builder::new().prefix(".pack-").tempfile_in(folder)?;
    let mut zip = ZipWriter::new(file.as_file_mut());
    zip.start_file(PACK_FILE, options())?;
    zip.write_all(pack.text().as_bytes())?;
    for (name, piece) in pieces {
        match piece {
            Piece::File(from) => {
                zip.start_file(name.as_str(), options())?;
                io::copy(&mut File::open(from)?, &mut zip)?;
            }
            Piece::Archive(files) => {
                let mut inner = ZipWriter::new(tempfile::tempfile()?);
                for (path, from) in files {
                    inner.start_file(path.as_str(), options())?;
                    io::copy(&mut File::open(from)?, &mut inner)?;
                }
                let mut packed = inner.finish()?;
                io::Seek::rewind(&mut packed)?;
                zip.start_file(name.as_str(), options())?;
                io::copy(&mut packed, &mut zip)?;
            }
        }
    }
    zip.finish()?;
    // A temporary file is for its owner alone; a pack is given away.
    file.as_file().set_permissions(Permissions::from_mode(0o644))?;
    file.as_file().sync_all()?;
    file.persist(path).map(drop).map_err(|error| error.error)
}
