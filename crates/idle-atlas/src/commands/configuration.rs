//! The command `config`: check, show and schema.

use crate::config::Settings;
use crate::config::reference;
use crate::config::shown::shown;
use crate::exit::{Exit, Failure};
use crate::screen::Screen;
use crate::session::Session;
use crate::view;
use crate::view::configuration::{CheckedConfiguration, ShownConfiguration};

/// Says what a valid configuration consists of. What is wrong was an error before.
pub fn check(settings: &Settings, session: &Session) -> Result<Exit, Failure> {
    let checked = CheckedConfiguration {
        config: settings.path.clone(),
        site: settings.site.root().to_string(),
        sources: settings.sources.iter().map(|source| source.name()).collect(),
        sections: settings.section_names().into_iter().map(str::to_owned).collect(),
        rules: settings.choices.rules.len(),
        engines: settings.engines.iter().map(|engine| engine.name.clone()).collect(),
    };
    session.screen.show(&checked, || view::configuration::checked(&checked, &session.screen.layout(settings)))?;
    Ok(Exit::Done)
}

/// Shows every key as it stands.
pub fn show(settings: &Settings, session: &Session) -> Result<Exit, Failure> {
    let extended = settings.extends.as_ref();
    let shown = ShownConfiguration {
        config: settings.path.clone(),
        extends: extended.map(|(path, _)| path.clone()),
        tables: shown(settings.text(), extended.map(|(_, text)| text.as_str()))?,
    };
    let screen = &session.screen;
    screen.show(&shown, || view::configuration::shown(&shown, screen.is_verbose()))?;
    Ok(Exit::Done)
}

/// Prints the JSON Schema of the configuration.
pub fn schema(screen: &Screen) -> Result<Exit, Failure> {
    screen.print(&format!("{:#}\n", reference::schema()))?;
    Ok(Exit::Done)
}
