//! Turning a page that was read into a contribution.

use std::borrow::Cow;

use super::field_table::Contribution;
use crate::address::Address;
use crate::page::Page;

impl Page {
    /// The page as a contribution for this address.
    pub fn into_contribution(self, address: &Address) -> Contribution<'static> {
        let owned = |address: Address| Cow::Owned(address.as_str().to_owned());
        Contribution {
            url: owned(address.clone()),
            modified: self.modified,
            published: self.published,
            title: self.title.map(Cow::Owned),
            headline: self.headline.map(Cow::Owned),
            description: self.description.map(Cow::Owned),
            language: self.language.map(Cow::Owned),
            unknown_players: self.unknown_players.into_iter().map(owned).collect(),
            images: self.images.into_iter().map(owned).collect(),
            videos: self.videos,
            alternates: self.alternates,
            expires: self.expires,
            digest: Some(self.digest),
            facts: Some(self.facts.bits()),
            noindex: self.noindex.map(Cow::Owned),
            canonical: self.canonical.map(owned),
            refresh: self.refresh.map(owned),
            keep: self.own_word.keep,
            own_section: self.own_word.section.map(Cow::Owned),
            date_policy: self.own_word.date_policy,
            announce: self.own_word.announce,
            changefreq: self.own_word.changefreq,
            priority: self.own_word.priority,
            categories: self.categories.into_iter().map(Cow::Owned).collect(),
            tags: self.tags.into_iter().map(Cow::Owned).collect(),
            authors: self.authors.into_iter().map(Cow::Owned).collect(),
            stated_videos: self.stated_videos,
            unreadable: self.unreadable.map(Cow::Owned),
            no_head: !self.has_head,
            ..Contribution::default()
        }
    }
}
