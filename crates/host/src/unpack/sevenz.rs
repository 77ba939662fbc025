//! 7z archives.

use std::{
    fs::File,
    io::{self, Read},
    path::Path,
};

use flate2::Crc;
use sevenz_rust2::{ArchiveReader, Coder, EncoderMethod, Error, Password};

use super::{
    UnpackError, Unpacked,
    intake::{Intake, Link},
};

/// What a dictionary may take. Archives made with the strongest usual settings take a quarter of it.
const MOST_MEMORY: u64 = 512 << 20;

/// Returns how much memory a part of an archive asks for. The library tells it in its debugging text only.
fn memory_of(coder: &Coder) -> u64 {
    let text = format!("{coder:?}");
    let Some((_, properties)) = text.split_once("properties: [") else { return 0 };
    let properties = properties.split(']').next().unwrap_or_default();
    let bytes: Vec<u8> = properties.split(',').filter_map(|byte| byte.trim().parse().ok()).collect();
    let word = || {
        bytes.get(1..5).map_or(0, |word| u64::from(u32::from_le_bytes([word[0], word[1], word[2], word[3]])))
    };
    match coder.encoder_method_id() {
        EncoderMethod::ID_LZMA2 => match bytes.first() {
            Some(40..) => u64::from(u32::MAX),
            Some(bits) => (2 | u64::from(bits & 1)) << (bits / 2 + 11),
            None => 0,
        },
        EncoderMethod::ID_LZMA | EncoderMethod::ID_PPMD => word(),
        _ => 0,
    }
}

pub(super) fn unpack(
    path: &Path,
    intake: &Intake<'_>,
    password: Option<&str>,
) -> Result<Unpacked, UnpackError> {
    let given = password.map_or_else(Password::empty, Password::from);
    let failed = |error: Error| match error {
        Error::PasswordRequired | Error::MaybeBadPassword(_) => intake.password(password.is_some()),
        Error::ChecksumVerificationFailed if password.is_some() => intake.password(true),
        error => intake.damaged(error),
    };
    let file = File::open(path).map_err(|error| intake.damaged(error))?;
    let mut archive = ArchiveReader::new(file, given).map_err(failed)?;
    for coder in archive.archive().blocks.iter().flat_map(|block| &block.coders) {
        let memory = memory_of(coder);
        if memory > MOST_MEMORY {
            return Err(intake.too_much(format!("opening it would take {} MB of memory", memory >> 20)));
        }
    }
    let bytes = archive.archive().files.iter().fold(0_u64, |sum, entry| sum.saturating_add(entry.size));
    intake.will_bring(bytes)?;
    let (mut members, mut links) = (Vec::new(), Vec::new());
    let mut refused = None;
    let unpacked = archive.for_each_entries(|entry, from| {
        let mode = if entry.has_windows_attributes { entry.windows_attributes >> 16 } else { 0 };
        let done = if entry.is_directory || entry.is_anti_item {
            Ok(())
        } else {
            let mut checked = Checked { from, crc: Crc::new(), size: 0 };
            let taken = one(entry.name(), mode, &mut checked, intake, &mut members, &mut links);
            // The library leaves it at that; a wrong password makes other bytes of the same packed ones.
            let is_whole =
                checked.size == entry.size && (!entry.has_crc || u64::from(checked.crc.sum()) == entry.crc);
            taken.and_then(|()| {
                let why = || format!("{}: its checksum is wrong", entry.name());
                if is_whole { Ok(()) } else { Err(intake.damaged(why())) }
            })
        };
        match done {
            Ok(()) => Ok(true),
            Err(error) => {
                refused = Some(error);
                Err(Error::Io(io::Error::other("refused"), "".into()))
            }
        }
    });
    match refused {
        // A wrong password makes noise of what was packed.
        Some(UnpackError::Damaged { .. }) if password.is_some() => return Err(intake.password(true)),
        Some(error) => return Err(error),
        None => unpacked.map_err(failed)?,
    }
    intake.finish(members, links)
}

/// Counts and sums what is read.
struct Checked<'a> {
    from: &'a mut dyn Read,
    crc: Crc,
    size: u64,
}

impl Read for Checked<'_> {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        let read = self.from.read(buffer)?;
        self.crc.update(&buffer[..read]);
        self.size += read as u64;
        Ok(read)
    }
}

fn one(
    raw: &str,
    mode: u32,
    from: &mut dyn Read,
    intake: &Intake<'_>,
    members: &mut Vec<super::Member>,
    links: &mut Vec<Link>,
) -> Result<(), UnpackError> {
    let path = intake.name(raw)?;
    match mode & 0o170_000 {
        0o120_000 => {
            let mut target = String::new();
            from.read_to_string(&mut target).map_err(|error| intake.damaged(format!("{path}: {error}")))?;
            links.push(Link { path, target, from_top: false });
        }
        0 | 0o100_000 => members.push(intake.take(path, from)?),
        _ => return Err(intake.unsafe_member(raw, "it is neither a file nor a folder")),
    }
    Ok(())
}
