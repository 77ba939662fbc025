//! Compressed files: each holds one file, or a tar.

use std::{
    fs::File,
    io::{BufReader, Cursor, Read},
};

use crate::container::{HEAD, sniff};

use super::{Container, UnpackError, Unpacked, intake::Intake, tarball};

pub(super) fn unpack(
    container: Container,
    file: File,
    name: &str,
    intake: &Intake<'_>,
) -> Result<Unpacked, UnpackError> {
    let file = BufReader::with_capacity(128 << 10, file);
    let mut open: Box<dyn Read> = match container {
        Container::Gzip => Box::new(flate2::bufread::MultiGzDecoder::new(file)),
        Container::Bzip2 => Box::new(bzip2::bufread::MultiBzDecoder::new(file)),
        Container::Xz => Box::new(liblzma::bufread::XzDecoder::new_multi_decoder(file)),
        _ => Box::new(zstd::Decoder::with_buffer(file).map_err(|error| intake.damaged(error))?),
    };
    let mut head = Vec::new();
    open.by_ref().take(HEAD as u64).read_to_end(&mut head).map_err(|error| intake.damaged(error))?;
    let is_tar = sniff(&head) == Some(Container::Tar);
    let mut whole = Cursor::new(head).chain(open);
    if is_tar {
        return tarball::unpack(whole, intake);
    }
    let name = intake.name(name)?;
    let member = intake.take(name, &mut whole)?;
    intake.finish(vec![member], Vec::new())
}
