//! The rules that a course names: read from gait files, given from Rust, with tunables set otherwise.

use std::sync::Arc;

use toml::Spanned;
use velocitas_core::{Motion, Tunable};
use velocitas_gait::{Diagnostic, Gait, Report, Severity};

use super::error::nearest;
use super::file::File;
use super::resolve::{Resolver, Result, Rules};
use super::script;
use super::{Course, GaitFile, Override};

/// Rules that screens can tell apart.
const MOST_RULES: usize = 32;

impl Resolver<'_> {
    /// The rules with those that the cast names by file, each file once.
    pub(super) fn gaits(&self, file: &File) -> Result<(Rules, Vec<GaitFile>)> {
        let mut rules = self.rules.clone();
        let mut gaits: Vec<GaitFile> = Vec::new();
        let named = file.cast.iter().map(|c| c.gait.as_ref()).chain(file.thing.iter().map(|t| t.gait.as_ref()));
        for path in named.flatten() {
            if gaits.iter().any(|g| g.path == *path.get_ref()) {
                continue;
            }
            let (text, gait) = self.gait(path)?;
            if let Some(same) = rules.iter().find(|r| r.name() == gait.name()) {
                let message = format!("expected a rule of another name; `{}` is called so already", same.name());
                let help = "change the name on the first line of the gait".to_owned();
                return Err(self.wrong(path.span(), message).help(Some(help)));
            }
            if rules.len() >= MOST_RULES {
                return Err(self.wrong(path.span(), format!("expected at most {MOST_RULES} rules; found more")));
            }
            gaits.push(GaitFile { kind: rules.len() as u8, path: path.get_ref().clone(), text });
            rules.push(Arc::new(gait));
        }
        Ok((rules, gaits))
    }

    fn gait(&self, path: &Spanned<String>) -> Result<(String, Gait)> {
        let name = path.get_ref();
        let text = (self.read)(name)
            .map_err(|why| self.wrong(path.span(), format!("expected a gait file; cannot read `{name}`: {why}")))?;
        let compiled = velocitas_gait::compile(&text);
        let Some(gait) = compiled.gait else {
            let errors: Vec<Diagnostic> =
                compiled.diagnostics.into_iter().filter(|d| d.severity == Severity::Error).collect();
            let message = format!("expected a gait without mistakes; found {} in `{name}`", errors.len());
            let report = Report { file: name, text: &text, diagnostics: &errors, coloured: false };
            let mut error = self.wrong(path.span(), message);
            error.inside = Some(report.to_string().into());
            return Err(error);
        };
        Ok((text, gait))
    }

    pub(super) fn overrides(&self, course: &Course, tune: &script::Tune) -> Result<Vec<Override>> {
        let rules: Vec<(&str, u8)> = course.kinds.iter().map(|(kind, m)| (m.name(), kind)).collect();
        let kind = self.word(&tune.rule, "a rule", &rules)?;
        let known_to = self.known_to(tune.known_to.as_ref())?;
        let mut found = Vec::new();
        for (name, setting) in &tune.set {
            let tunables = course.kinds.motion(kind).tunables();
            let Some(tunable) = tunables.iter().position(|t| t.name == name) else {
                let names: Vec<&str> = tunables.iter().map(|t| t.name).collect();
                let message =
                    format!("expected a tunable of `{}` ({}); found `{name}`", tune.rule.get_ref(), names.join(", "));
                return Err(self.wrong(setting.span(), message).help(nearest(name, names.into_iter())));
            };
            let value = self.setting(&tunables[tunable], setting)?;
            found.push(Override { kind, tunable, value, known_to });
        }
        Ok(found)
    }

    /// A tunable's value in SI units, within its range.
    fn setting(&self, tunable: &Tunable, setting: &Spanned<script::Setting>) -> Result<f32> {
        let wrong = |message: String| Err(self.wrong(setting.span(), message));
        let (value, unit) = match setting.get_ref() {
            script::Setting::Number(x) => (*x, "1".to_owned()),
            script::Setting::Text(text) => match velocitas_gait::read_quantity(text) {
                Ok((value, dimension)) => (value, dimension.to_string()),
                Err(why) => return wrong(why),
            },
        };
        if unit != tunable.unit {
            let shown = |unit: &str| if unit == "1" { "no unit".to_owned() } else { unit.to_owned() };
            let (wanted, found) = (shown(tunable.unit), shown(&unit));
            return wrong(format!("expected `{}` in {wanted}; found {found}", tunable.name));
        }
        if !(f64::from(tunable.least)..=f64::from(tunable.most)).contains(&value) {
            let (least, most) = (tunable.least, tunable.most);
            return wrong(format!("expected `{}` from {least} to {most} {unit}; found {value}", tunable.name));
        }
        Ok(value as f32)
    }

    /// The number of a rule, named by its file or its name.
    pub(super) fn kind(
        &self,
        course: &Course,
        gait: Option<&Spanned<String>>,
        rule: Option<&Spanned<String>>,
    ) -> Result<u8> {
        let rules: Vec<(&str, u8)> = course.kinds.iter().map(|(kind, m)| (m.name(), kind)).collect();
        match (gait, rule) {
            (Some(gait), Some(_)) => Err(self.wrong(gait.span(), "expected a `gait` or a `rule`; found both")),
            (Some(gait), None) => Ok(course.gaits.iter().find(|g| g.path == *gait.get_ref()).map_or(0, |g| g.kind)),
            (None, Some(rule)) => self.word(rule, "a rule", &rules),
            (None, None) => Ok(0),
        }
    }
}
