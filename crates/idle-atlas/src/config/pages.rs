//! Resolving how pages are read, by any source.

use atlas_core::address::Address;
use atlas_core::page::{PageReader, Player};
use atlas_core::query::Parameters;
use atlas_io::sources::oembed::{Asking, Endpoint};
use globset::{GlobBuilder, GlobSetBuilder};

use super::context::{Context, expand};
use super::file::ConfigFile;
use super::tables::{At, PlayerTable};
use crate::exit::Failure;

/// How pages are read.
pub fn reader(context: &Context<'_>, typed: &ConfigFile) -> Result<PageReader, Failure> {
    Ok(PageReader {
        timezone: context.timezone.clone(),
        tokens: context.crawlers.to_vec(),
        players: players(context, typed)?,
        lead_picture: typed.images.lead_picture.unwrap_or(true),
        drop_parameters: parameters(context, typed.images.drop_parameters.as_ref(), &[])?,
    })
}

/// Names of query parameters: the configured ones and the default ones.
pub fn parameters(
    context: &Context<'_>,
    typed: Option<&At<Vec<String>>>,
    usual: &[&str],
) -> Result<Parameters, Failure> {
    let own = typed.map(|names| names.as_ref().as_slice()).unwrap_or_default();
    let names: Vec<&str> = usual.iter().copied().chain(own.iter().map(String::as_str)).collect();
    Parameters::new(&names).map_err(|why| match typed {
        Some(typed) => context.origin.error(typed, format!("“drop_parameters”: {why}")),
        None => Failure::said(why.to_string()),
    })
}

fn players(context: &Context<'_>, typed: &ConfigFile) -> Result<Vec<Player>, Failure> {
    let player = |table: &At<PlayerTable>| {
        let player = table.as_ref();
        Player::new(&player.url, player.content.as_deref(), player.thumbnail.as_deref())
            .map_err(|why| context.origin.error(table, format!("[[player]] “url”: {why}")))
    };
    typed.player.iter().map(player).collect()
}

/// The oEmbed providers to ask.
pub fn asking(context: &Context<'_>, typed: &ConfigFile) -> Result<Asking, Failure> {
    let mut endpoints = Vec::new();
    for table in &typed.oembed {
        let mut globs = GlobSetBuilder::new();
        for pattern in &table.matching {
            let glob = GlobBuilder::new(pattern.as_ref()).build();
            globs.add(glob.map_err(|why| context.origin.error(pattern, format!("“matching”: {}", why.kind())))?);
        }
        let endpoint = expand(context.origin, &table.endpoint)?;
        endpoints.push(Endpoint {
            matching: globs.build().map_err(|why| Failure::said(why.to_string()))?,
            written: table.matching.iter().map(|pattern| pattern.as_ref().as_str()).collect::<Vec<_>>().join(" "),
            address: Address::parse(endpoint.expose())
                .map_err(|why| context.origin.error(&table.endpoint, endpoint.hide(format!("“endpoint”: {why}"))))?,
        });
    }
    Ok(Asking::new(endpoints, typed.videos.oembed))
}
