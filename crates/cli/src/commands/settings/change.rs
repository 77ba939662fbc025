//! Noting settings, each judged before anything is written.

use yalotheca_app::{AppError, plan::OpenSettings};
use yalotheca_core::{
    control::ControlFile,
    document::{Pointer, Value},
    settings::JudgeSettingError,
};

use crate::view::count;

/// What was noted.
#[derive(Default)]
pub(super) struct Changes {
    /// Each place with its value.
    pub(super) noted: Vec<String>,
    /// What is worth knowing.
    pub(super) notes: Vec<String>,
}

impl Changes {
    /// Notes a value for every place that is meant.
    pub(super) fn set(
        &mut self,
        files: &[&OpenSettings],
        (pattern, value): (&Pointer, &Value),
        force: bool,
        wants: &mut ControlFile,
    ) -> Result<(), AppError> {
        let file = choose(files, pattern)?;
        if let Some(Err(error)) = &file.now {
            let path = file.path.as_ref().map_or("", yalotheca_core::id::TreePath::as_str);
            return Err(AppError::Refused {
                what: format!("{path} cannot be read: {error}"),
                hint: Some(format!("correct line {} of it; nothing was changed", error.line)),
            });
        }
        let known = file.known();
        let places = known.meant(pattern);
        if places.is_empty() {
            return Err(AppError::Usage {
                what: format!("no setting of {} fits {pattern}", file.short),
                hint: Some(format!("yalotheca settings {} lists them", file.owner)),
            });
        }
        for at in &places {
            let value = match known.judge(&file.short, at, value) {
                Ok(value) => value,
                Err(error) if force && !matches!(error, JudgeSettingError::Secret { .. }) => {
                    guess(file, at, value)
                }
                Err(error) => return Err(refused(&error)),
            };
            if let Some(near) = known.near(at).filter(|_| file.open) {
                self.notes.push(format!("{} has had no setting {at} so far; {near}", file.short));
            }
            wants.ask_setting(&file.owner, &file.short, at, Some(&value));
            self.noted.push(format!("{at} = {value}"));
        }
        if places.len() > 1 {
            self.notes.push(format!("{pattern} means {} in {}", count(places.len(), "place"), file.short));
        }
        Ok(())
    }

    /// Forgets every place that is meant.
    pub(super) fn reset(
        &mut self,
        files: &[&OpenSettings],
        pattern: &Pointer,
        wants: &mut ControlFile,
    ) -> Result<(), AppError> {
        let mut done = 0;
        for file in files {
            let asked = wants.settings.get(&file.owner).and_then(|all| all.get(&file.short));
            let fits = |at: &&Pointer| at.fits(pattern);
            let places: Vec<Pointer> =
                asked.into_iter().flatten().map(|(at, _)| at).filter(fits).cloned().collect();
            for at in &places {
                wants.ask_setting(&file.owner, &file.short, at, None);
                self.noted.push(format!("{at} no longer set"));
            }
            done += places.len();
        }
        if done > 0 {
            return Ok(());
        }
        Err(AppError::Usage {
            what: format!("{pattern} is not set in yalotheca.toml"),
            hint: files
                .first()
                .map(|file| format!("yalotheca settings {} shows which are yours", file.owner)),
        })
    }
}

/// The value as it stands there now tells the sort; else what it looks like.
fn guess(file: &OpenSettings, at: &Pointer, value: &Value) -> Value {
    match file.known().now.and_then(|document| document.get(at)) {
        Some(there) => value.like(&there),
        None => serde_json::from_str::<serde_json::Value>(&value.plain())
            .map_or_else(|_| value.clone(), Value::from),
    }
}

fn refused(error: &JudgeSettingError) -> AppError {
    use yalotheca_core::hint::Hint;
    AppError::Refused { what: error.to_string(), hint: error.hint() }
}

/// Returns the file that a place is in: the only one, or the only one that knows it.
fn choose<'a>(files: &[&'a OpenSettings], pattern: &Pointer) -> Result<&'a OpenSettings, AppError> {
    if let [only] = files {
        return Ok(only);
    }
    let knows = |file: &&&OpenSettings| file.known().places().iter().any(|at| at.fits(pattern));
    let knowing: Vec<&&OpenSettings> = files.iter().filter(knows).collect();
    let names =
        |files: &[&&OpenSettings]| files.iter().map(|file| file.short.clone()).collect::<Vec<_>>().join(", ");
    match knowing.as_slice() {
        [only] => Ok(**only),
        [] => {
            let places: Vec<String> =
                files.iter().flat_map(|file| file.known().places()).map(|at| at.to_string()).collect();
            let near = yalotheca_core::suggest::did_you_mean(
                &pattern.to_string(),
                places.iter().map(String::as_str),
            );
            Err(AppError::Usage {
                what: format!("none of {} has a setting {pattern}", names(&files.iter().collect::<Vec<_>>())),
                hint: near.or_else(|| Some("say which file you mean with --file".into())),
            })
        }
        several => Err(AppError::Usage {
            what: format!("{pattern} is in {}", names(several)),
            hint: Some(format!("use --file {} to say which one you mean", several[0].short)),
        }),
    }
}
