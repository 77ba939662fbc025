//! Zip archives. Members lie apart from each other, so several threads unpack them.

use std::{
    fs::File,
    io::{BufReader, Read},
    path::Path,
    thread,
};

use libdeflater::Decompressor;
use zip::{CompressionMethod, ZipArchive, result::ZipError};

use super::{
    Member, UnpackError, Unpacked,
    intake::{Intake, Link},
};

/// A member no larger than this is unpacked at once.
const AT_ONCE: u64 = 4 << 20;

/// Each member is sought out, which empties the buffer: it holds what is read in small pieces and not much more.
const BUFFER: usize = 4 << 10;

/// A link's target longer than this is none.
const LONGEST_LINK: u64 = 4096;

fn open(path: &Path, intake: &Intake<'_>) -> Result<ZipArchive<BufReader<File>>, UnpackError> {
    let file = File::open(path).map_err(|error| intake.damaged(error))?;
    ZipArchive::new(BufReader::with_capacity(BUFFER, file)).map_err(|error| intake.damaged(error))
}

enum What {
    File,
    Link,
}

pub(super) fn unpack(
    path: &Path,
    intake: &Intake<'_>,
    password: Option<&str>,
) -> Result<Unpacked, UnpackError> {
    let mut zip = open(path, intake)?;
    let mut work: Vec<(usize, String, What)> = Vec::new();
    let mut bytes = 0_u64;
    for index in 0..zip.len() {
        let member = zip.by_index_data(index).map_err(|error| intake.damaged(error))?;
        let raw = member.name().map_err(|_| intake.unsafe_member("a member", "its name is not text"))?;
        let (is_folder, mode) = (raw.ends_with(['/', '\\']), member.external_attributes() >> 16);
        let name = match intake.name(&raw) {
            // Some programs name the top itself.
            Err(UnpackError::Unsafe { .. }) if is_folder && raw.trim_matches(['.', '/']).is_empty() => {
                continue;
            }
            name => name?,
        };
        bytes = bytes.saturating_add(member.size());
        match mode & 0o170_000 {
            _ if is_folder => {}
            0o120_000 => work.push((index, name, What::Link)),
            0 | 0o100_000 => work.push((index, name, What::File)),
            0o040_000 => {}
            _ => return Err(intake.unsafe_member(&raw, "it is neither a file nor a folder")),
        }
    }
    intake.will_bring(bytes)?;
    // Equal shares of bytes would be better still; members of packs are mostly alike.
    let threads = thread::available_parallelism().map_or(1, usize::from).min(work.len().div_ceil(32)).max(1);
    let share = work.len().div_ceil(threads).max(1);
    let parts = thread::scope(|scope| {
        let mut chunks = work.chunks(share);
        let first = chunks.next().unwrap_or(&[]);
        let others: Vec<_> = chunks
            .map(|chunk| scope.spawn(move || part(&mut open(path, intake)?, chunk, intake, password)))
            .collect();
        let mut parts = vec![part(&mut zip, first, intake, password)];
        for other in others {
            parts.push(other.join().unwrap_or_else(|panic| std::panic::resume_unwind(panic)));
        }
        parts
    });
    let (mut members, mut links) = (Vec::new(), Vec::new());
    for part in parts {
        let (more, others) = part?;
        members.extend(more);
        links.extend(others);
    }
    intake.finish(members, links)
}

/// Unpacks a small deflated member at once, which takes half the time. Whatever is odd about it is left to the slower way,
/// which also says what is wrong.
fn inflated(
    zip: &mut ZipArchive<BufReader<File>>,
    index: usize,
    inflater: &mut Decompressor,
) -> Option<Vec<u8>> {
    let mut member = zip.by_index_raw(index).ok()?;
    let (size, packed) = (member.size(), member.compressed_size());
    let is_plain = member.compression() == CompressionMethod::Deflated;
    if !is_plain || size > AT_ONCE || packed > AT_ONCE {
        return None;
    }
    let (mut input, mut output) =
        (vec![0; usize::try_from(packed).ok()?], vec![0; usize::try_from(size).ok()?]);
    member.read_exact(&mut input).ok()?;
    let written = inflater.deflate_decompress(&input, &mut output).ok()?;
    let is_whole = written == output.len() && libdeflater::crc32(&output) == member.crc32();
    is_whole.then_some(output)
}

fn part(
    zip: &mut ZipArchive<BufReader<File>>,
    work: &[(usize, String, What)],
    intake: &Intake<'_>,
    password: Option<&str>,
) -> Result<(Vec<Member>, Vec<Link>), UnpackError> {
    let (mut members, mut links) = (Vec::with_capacity(work.len()), Vec::new());
    let mut inflater = Decompressor::new();
    for (index, name, what) in work {
        let failed = |error: ZipError| match error {
            ZipError::InvalidPassword => intake.password(true),
            ZipError::UnsupportedArchive(ZipError::PASSWORD_REQUIRED) => intake.password(false),
            error => intake.damaged(format!("{name}: {error}")),
        };
        let encrypted = zip.by_index_data(*index).is_ok_and(|member| member.encrypted());
        if matches!(what, What::File)
            && !encrypted
            && let Some(bytes) = inflated(zip, *index, &mut inflater)
        {
            members.push(intake.take_whole(name.clone(), &bytes)?);
            continue;
        }
        let mut member = match password.filter(|_| encrypted) {
            Some(password) => zip.by_index_decrypt(*index, password.as_bytes()).map_err(failed)?,
            None => zip.by_index(*index).map_err(failed)?,
        };
        match what {
            What::File => {
                // What comes out of a wrong password is mostly noise that fails its checksum.
                let taken = intake.take(name.clone(), &mut member).map_err(|error| match error {
                    UnpackError::Damaged { .. } if encrypted => intake.password(true),
                    error => error,
                });
                members.push(taken?);
            }
            What::Link => {
                let mut target = String::new();
                let read = std::io::Read::read_to_string(
                    &mut std::io::Read::take(&mut member, LONGEST_LINK),
                    &mut target,
                );
                read.map_err(|error| intake.damaged(format!("{name}: {error}")))?;
                links.push(Link { path: name.clone(), target, from_top: false });
            }
        }
    }
    Ok((members, links))
}
