//! Writing packs in our own format.

use std::{
    fs::{File, Permissions},
    io::{self, Write},
    os::unix::fs::PermissionsExt,
    path::{Path, PathBuf},
};

use crate::{
    store::Store,
    unpack::{UnpackOptions, unpack},
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

/// The files of a pack in a folder of their own.
#[derive(Debug)]
pub struct LaidOut {
    /// What the pack says of itself; nothing where it is none.
    pub pack: Option<Pack>,
    /// The folder.
    pub folder: PathBuf,
    /// Whether the folder is new.
    is_new: bool,
}

impl LaidOut {
    /// Removes the folder again, if it is new.
    pub fn take_back(self) {
        if self.is_new {
            std::fs::remove_dir_all(&self.folder).ok();
        }
    }
}

/// Unpacks a pack's members into a folder, in place of what an earlier edition had there.
///
/// # Errors
/// Where it cannot be unpacked or written.
pub fn lay_out(archive: &Path, store: &Store, folder: &Path) -> io::Result<LaidOut> {
    let name = archive.file_name().map_or_else(String::new, |name| name.to_string_lossy().into_owned());
    let unpacked = unpack(archive, &name, store, &UnpackOptions::default()).map_err(io::Error::other)?;
    let members = unpacked.map(|unpacked| unpacked.members).unwrap_or_default();
    let is_new = !folder.exists();
    let mut laid = LaidOut { pack: None, folder: folder.to_owned(), is_new };
    let above = folder.parent().unwrap_or(Path::new("."));
    std::fs::create_dir_all(above)?;
    let staged = tempfile::Builder::new().prefix(".pack-").tempdir_in(above)?;
    for member in members {
        let Some(from) = store.file(&member.digest) else { continue };
        if member.path == PACK_FILE {
            laid.pack = Some(Pack::parse(&std::fs::read_to_string(&from)?).map_err(io::Error::other)?);
        } else if let Some(own) = member.path.strip_prefix("members/") {
            let to = staged.path().join(own);
            std::fs::create_dir_all(to.parent().unwrap_or(staged.path()))?;
            std::fs::copy(&from, &to)?;
        }
    }
    if laid.pack.is_some() {
        if folder.exists() {
            std::fs::remove_dir_all(folder)?;
        }
        std::fs::rename(staged.keep(), folder)?;
    }
    Ok(laid)
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
