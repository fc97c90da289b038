//! The arguments of the commands for editors, shells and packages.

use std::path::PathBuf;

use clap::{Args, Subcommand};
use clap_complete::Shell;

#[derive(Debug, Args)]
#[command(arg_required_else_help = true, after_help = "Example: idle-atlas config show")]
pub struct ConfigArguments {
    #[command(subcommand)]
    pub what: ConfigCommand,
}

#[derive(Debug, Subcommand)]
pub enum ConfigCommand {
    /// Check the configuration, without reading any source
    #[command(after_help = "Example: idle-atlas config check --config sites/shop.toml")]
    Check,
    /// Show every key as it stands, with the defaults, and without secrets
    #[command(after_help = "Example: idle-atlas config show --verbose")]
    Show,
    /// Print the JSON Schema of idle-atlas.toml, for editors
    #[command(after_help = "Example: idle-atlas config schema > idle-atlas.schema.json")]
    Schema,
}

#[derive(Debug, Args)]
#[command(
    after_help = "Example: idle-atlas completions bash > /etc/bash_completion.d/idle-atlas",
    after_long_help = "Example: idle-atlas completions bash > /etc/bash_completion.d/idle-atlas

Others: zsh, into a folder of $fpath, as _idle-atlas; fish, into ~/.config/fish/completions/idle-atlas.fish; powershell and elvish, into the profile."
)]
pub struct CompletionsArguments {
    /// The shell
    pub shell: Shell,
}

#[derive(Debug, Args)]
#[command(after_help = "Example: idle-atlas manual /usr/local/share/man/man1")]
pub struct ManualArguments {
    /// The folder to write into; it is made if it does not exist
    pub folder: PathBuf,
}
