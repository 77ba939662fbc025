//! The exit code of every error.

use std::process::ExitCode;

use yalotheca_app::AppError;
use yalotheca_host::{
    arrival::ArrivalError,
    catalogue::CatalogueError,
    console::ConsoleError,
    control::OpenControlError,
    fetch::FetchError,
    games::FindGameError,
    mirror::MirrorError,
    settle::SettleError,
    survey::SurveyError,
    tree::{ftp::ConnectFtpError, sftp::ConnectError},
    trial::TrialError,
    unpack::UnpackError,
};

/// The network or a disk failed.
pub(crate) const NOT_REACHED: u8 = 4;

/// Returns the exit code.
#[expect(clippy::too_many_lines, reason = "one match over all errors")]
pub(crate) fn exit_code(error: &AppError) -> ExitCode {
    const WRONG_USE: u8 = 2;
    const NO_LINEUP: u8 = 3;
    const WORLD: u8 = NOT_REACHED;
    const REFUSED: u8 = 5;
    if let AppError::Trial(TrialError::Interrupted(signal) | TrialError::WatchInterrupted(signal)) = error {
        return ExitCode::from(128 + u8::try_from(*signal).unwrap_or(0));
    }
    if error.tree_error().is_some_and(|error| error.refusal().is_some()) {
        return ExitCode::from(REFUSED);
    }
    ExitCode::from(match error {
        AppError::Control(
            OpenControlError::NoControl { .. } | OpenControlError::Wants(_) | OpenControlError::Lock(_),
        )
        | AppError::Game(FindGameError::Unknown { .. } | FindGameError::Load(_))
        | AppError::ReadToml(_)
        | AppError::Rehearse(_)
        | AppError::Desire(_)
        | AppError::Id(_)
        | AppError::Address(_)
        | AppError::Connect(ConnectError::Name(_))
        | AppError::Range(_)
        | AppError::UnknownContent { .. }
        | AppError::Survey(SurveyError::Render(_) | SurveyError::Path(_))
        | AppError::ByHand { .. }
        | AppError::Console(ConsoleError::Line | ConsoleError::Render(_))
        | AppError::Usage { .. } => WRONG_USE,
        AppError::NoLineup(_) => NO_LINEUP,
        AppError::Setting(_)
        | AppError::Connect(
            ConnectError::Denied { .. } | ConnectError::OtherKey { .. } | ConnectError::UnknownKey { .. },
        )
        | AppError::ConnectFtp(
            ConnectFtpError::Denied { .. }
            | ConnectFtpError::Certificate { .. }
            | ConnectFtpError::NoEncryption { .. },
        )
        | AppError::Survey(SurveyError::Broken { .. } | SurveyError::Untrusted { .. })
        | AppError::Catalogue(
            CatalogueError::Signature { .. }
            | CatalogueError::Fetch { source: FetchError::Credentials { .. }, .. }
            | CatalogueError::Older { .. }
            | CatalogueError::Given(
                ArrivalError::Nothing { .. }
                | ArrivalError::Describe { .. }
                | ArrivalError::Unpack(
                    UnpackError::Unsafe { .. }
                    | UnpackError::TooMuch { .. }
                    | UnpackError::Password { .. }
                    | UnpackError::Damaged { .. }
                    | UnpackError::Rar { .. },
                ),
            ),
        )
        | AppError::Settle(
            SettleError::Busy { .. }
            | SettleError::Abandoned { .. }
            | SettleError::Moved { .. }
            | SettleError::ChangedSince { .. }
            | SettleError::Journal { .. }
            | SettleError::Foreign { .. }
            | SettleError::OtherControl { .. },
        )
        | AppError::Fetch(FetchError::Credentials { .. })
        | AppError::Mirror(MirrorError::Foreign { .. } | MirrorError::Lock(_))
        | AppError::Change(_)
        | AppError::Edit(_)
        | AppError::Console(
            ConsoleError::Off { .. }
            | ConsoleError::Secret { .. }
            | ConsoleError::NotKept
            | ConsoleError::Elsewhere,
        )
        | AppError::Solver { .. }
        | AppError::Refused { .. } => REFUSED,
        AppError::Control(OpenControlError::Read { .. } | OpenControlError::Tree(_))
        | AppError::Game(FindGameError::Read { .. })
        | AppError::Survey(SurveyError::Tree(_))
        | AppError::Catalogue(_)
        | AppError::Fetch(_)
        | AppError::Store(_)
        | AppError::Settle(
            SettleError::Tree(_)
            | SettleError::Catalogue(_)
            | SettleError::Bytes { .. }
            | SettleError::Control { .. }
            | SettleError::Stuck { .. },
        )
        | AppError::Tree(_)
        | AppError::Mirror(_)
        | AppError::Trial(_)
        | AppError::Connect(ConnectError::Unreachable { .. } | ConnectError::NoProgram)
        | AppError::ConnectFtp(ConnectFtpError::Unreachable { .. } | ConnectFtpError::Full { .. })
        | AppError::Certificates(_)
        | AppError::Console(
            ConsoleError::Connect { .. }
            | ConsoleError::Closed
            | ConsoleError::Silent { .. }
            | ConsoleError::Local { .. },
        )
        | AppError::Silent { .. }
        | AppError::Io { .. } => WORLD,
    })
}
