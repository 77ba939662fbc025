//! Tar archives, compressed or not.

use std::io::Read;

use tar::{Archive, EntryType};

use super::{
    UnpackError, Unpacked,
    intake::{Intake, Link},
};

pub(super) fn unpack(from: impl Read, intake: &Intake<'_>) -> Result<Unpacked, UnpackError> {
    let (mut members, mut links) = (Vec::new(), Vec::new());
    let mut archive = Archive::new(from);
    let mut is_whole = false;
    for entry in archive.entries().map_err(|error| intake.damaged(error))? {
        let mut entry = entry.map_err(|error| intake.damaged(error))?;
        is_whole = true;
        let sort = entry.header().entry_type();
        let bytes = entry.path_bytes().into_owned();
        let raw = String::from_utf8(bytes)
            .map_err(|error| intake.unsafe_member(&error.to_string(), "its name is not UTF-8 text"))?;
        if raw.trim_matches(['.', '/']).is_empty() && sort == EntryType::Directory && !raw.contains("..") {
            continue;
        }
        match sort {
            EntryType::XGlobalHeader
            | EntryType::XHeader
            | EntryType::GNULongName
            | EntryType::GNULongLink => {}
            EntryType::Directory => drop(intake.name(&raw)?),
            EntryType::Regular | EntryType::Continuous | EntryType::GNUSparse => {
                let name = intake.name(&raw)?;
                members.push(intake.take(name, &mut entry)?);
            }
            EntryType::Symlink | EntryType::Link => {
                let path = intake.name(&raw)?;
                let target = entry.link_name_bytes().map(std::borrow::Cow::into_owned).unwrap_or_default();
                let target = String::from_utf8(target)
                    .map_err(|_| intake.unsafe_member(&raw, "it is a link to a name that is no text"))?;
                links.push(Link { path, target, from_top: sort == EntryType::Link });
            }
            _ => return Err(intake.unsafe_member(&raw, "it is a device or a pipe, not a file")),
        }
    }
    if is_whole { intake.finish(members, links) } else { Err(intake.damaged("there is nothing in it")) }
}
