//! Resolving what is written, and where: media, news, alternates, files, and what visitors see.

use std::fs;
use std::path::{Path, PathBuf};

use atlas_core::address::Site;
use atlas_core::choose::{Section, Sections};
use atlas_core::derive::alternates::AlternatesSettings;
use atlas_core::derive::news::{News, is_language};
use atlas_core::language;
use atlas_core::output_policy::{Hosts, Media, SectionPolicy};
use atlas_core::page::{MOST_IMAGES, MOST_VIDEOS};
use atlas_core::placement::{
    CHILD_PREFIX, LEAST_MEDIA, MOST_BYTES, MOST_FILES, MOST_URLS, STYLESHEET_NAME, USUAL_MEDIA, UrlsPerFile,
};
use atlas_core::visitor::PageTemplate;
use atlas_store::arrange::Cut;
use atlas_store::destination::{FOLDED_DAYS, Gzip, MAIN, Names};
use atlas_store::extras::{ExtrasSettings, NewestSettings, VisitorSettings};

use super::context::{Context, expand};
use super::file::ConfigFile;
use super::tables::{At, EngineTable, FilesTable, NewsTable, NumberOrAuto, WordOrList, YesOrWord};
use crate::exit::Failure;

/// The smallest size limit of a file, so that a frame and a long URL fit.
const LEAST_BYTES: i64 = 10_000;
/// The word for compressed bytes under the plain name.
pub(super) const ENCODED: &str = "encoded";
/// The most links on one visitor page.
const MOST_ENTRIES: i64 = 10_000;

impl Context<'_> {
    /// What is written for entries of sections that have no settings of their own.
    pub(super) fn usual_shape(&self, typed: &ConfigFile) -> Result<SectionPolicy, Failure> {
        Ok(SectionPolicy {
            images: self.media("write", typed.images.write.as_ref())?,
            most_images: self.most("most_per_page", typed.images.most_per_page.as_ref(), MOST_IMAGES, MOST_IMAGES)?,
            image_hosts: self.hosts("hosts", typed.images.hosts.as_ref(), &Hosts::All)?,
            videos: self.media("write", typed.videos.write.as_ref())?,
            video_hosts: self.hosts("hosts", typed.videos.hosts.as_ref(), &Hosts::All)?,
            most_videos: self.most("most_per_page", typed.videos.most_per_page.as_ref(), MOST_VIDEOS, MOST_VIDEOS)?,
            news: None,
        })
    }

    /// What is written for the entries of each section.
    pub(super) fn shape(&self, typed: &ConfigFile, sections: &Sections) -> Result<Vec<SectionPolicy>, Failure> {
        let usual = self.usual_shape(typed)?;
        let news = self.news(typed, sections)?;
        let of = |(at, section): (usize, &Section)| {
            let news = news.iter().find(|(sections, _)| sections.contains(&at)).map(|(_, news)| news.clone());
            let policy = SectionPolicy { news, ..usual.clone() };
            let Some(table) = typed.section.iter().find(|table| *table.name.as_ref() == section.name) else {
                return Ok(policy);
            };
            let media = |key: &str, own: &Option<At<YesOrWord>>, usual: Media| match own.as_ref() {
                None => Ok(usual),
                Some(typed) => match typed.as_ref() {
                    YesOrWord::Yes(true) if usual == Media::Off => Ok(Media::WithPages),
                    YesOrWord::Yes(true) => Ok(usual),
                    YesOrWord::Yes(false) => Ok(Media::Off),
                    YesOrWord::Word(word) => self.media_word(key, typed, word),
                },
            };
            Ok(SectionPolicy {
                images: media("images", &table.images, usual.images)?,
                most_images: self.most("most_images", table.most_images.as_ref(), usual.most_images, MOST_IMAGES)?,
                image_hosts: self.hosts("image_hosts", table.image_hosts.as_ref(), &usual.image_hosts)?,
                videos: media("videos", &table.videos, usual.videos)?,
                video_hosts: self.hosts("video_hosts", table.video_hosts.as_ref(), &usual.video_hosts)?,
                most_videos: self.most("most_videos", table.most_videos.as_ref(), usual.most_videos, MOST_VIDEOS)?,
                ..policy
            })
        };
        sections.list().iter().enumerate().map(of).collect()
    }

    /// The hosts whose pictures or videos are written.
    fn hosts(&self, key: &str, typed: Option<&At<WordOrList>>, usual: &Hosts) -> Result<Hosts, Failure> {
        let Some(typed) = typed else { return Ok(usual.clone()) };
        let expected = || {
            let message = format!(
                "“{key}”: expected \"all\", \"own\" or a list of hosts, such as [\"www.marrowvale.example\", \"*.weirfilms.example\"]"
            );
            self.origin.error(typed, message)
        };
        let own = self.site.root().host().split(':').next().unwrap_or_default().to_owned();
        match typed.as_ref() {
            WordOrList::Word(word) if word == "all" => Ok(Hosts::All),
            WordOrList::Word(word) if word == "own" => Ok(Hosts::Listed(vec![own])),
            WordOrList::Word(_) => Err(expected()),
            WordOrList::List(names) => {
                let is_host = |name: &String| !name.is_empty() && !name.contains(['/', ':', ' ', '@']);
                if !names.iter().all(is_host) {
                    return Err(expected());
                }
                let name = |name: &String| if name == "own" { own.clone() } else { name.to_lowercase() };
                Ok(Hosts::Listed(names.iter().map(name).collect()))
            }
        }
    }

    fn media(&self, key: &str, word: Option<&At<String>>) -> Result<Media, Failure> {
        word.map_or(Ok(Media::WithPages), |word| self.media_word(key, word, word.as_ref()))
    }

    fn media_word<T>(&self, key: &str, at: &At<T>, word: &str) -> Result<Media, Failure> {
        match word {
            "with-pages" => Ok(Media::WithPages),
            "own-files" => Ok(Media::OwnFiles),
            "off" => Ok(Media::Off),
            other => {
                let message = format!("“{key}”: “{other}” is unknown; expected with-pages, own-files or off");
                Err(self.origin.error(at, message))
            }
        }
    }

    /// The most of something, up to the limit of the format or the reader.
    fn most(&self, key: &str, typed: Option<&At<i64>>, usual: usize, most: usize) -> Result<usize, Failure> {
        let Some(number) = typed else { return Ok(usual) };
        let within = usize::try_from(*number.as_ref()).ok().filter(|number| *number <= most);
        within.ok_or_else(|| self.origin.error(number, format!("“{key}”: expected a number from 0 to {most}")))
    }

    /// The sections with news, and their publications.
    fn news(&self, typed: &ConfigFile, sections: &Sections) -> Result<Vec<(Vec<usize>, News)>, Failure> {
        let one = |table: &NewsTable| {
            let publication = table.publication.as_ref().trim();
            if publication.is_empty() {
                return Err(self
                    .origin
                    .error(&table.publication, "“publication”: expected its name, as it calls itself"));
            }
            let language = table.language.as_ref();
            if !is_language(language) {
                let message = format!(
                    "“language”: “{language}” is not a language code for news; expected one such as en, cy or zh-tw"
                );
                return Err(self.origin.error(&table.language, message));
            }
            let places = table.sections.as_ref().iter().map(|name| self.known_section(sections, name));
            let news = News { publication: publication.to_owned(), language: language.clone() };
            Ok((places.collect::<Result<Vec<_>, _>>()?, news))
        };
        typed.news.iter().map(one).collect()
    }

    /// How translations are found; `None` if none are written.
    pub(super) fn alternates(&self, typed: &ConfigFile) -> Result<Option<AlternatesSettings>, Failure> {
        let table = &typed.alternates;
        let tag = |at: &At<String>, text: &str| {
            language::tag(text).map_err(|why| self.origin.error(at, format!("[alternates]: {why}")))
        };
        let mut paths = Vec::new();
        for (language, prefix) in &table.paths {
            let path = prefix.as_ref();
            if !path.starts_with('/') || !path.ends_with('/') {
                let message = format!("“paths”: “{path}” is not a folder; expected a path such as /cy/");
                return Err(self.origin.error(prefix, message));
            }
            paths.push((tag(prefix, language)?, path.clone()));
        }
        let x_default = table.x_default.as_ref().map(|language| tag(language, language.as_ref())).transpose()?;
        Ok(table.write.unwrap_or(true).then_some(AlternatesSettings { paths, x_default }))
    }

    pub(super) fn cut(&self, files: &FilesTable) -> Result<Cut, Failure> {
        let urls_per_file = match files.urls_per_file.as_ref().map(|value| (value, value.as_ref())) {
            None => UrlsPerFile::Auto,
            Some((_, NumberOrAuto::Word(word))) if word == "auto" => UrlsPerFile::Auto,
            Some((at, NumberOrAuto::Number(number))) => UrlsPerFile::Fixed(self.urls_number(at, *number)?),
            Some((at, NumberOrAuto::Word(_))) => {
                return Err(self.origin.error(at, "“urls_per_file”: expected \"auto\" or a number from 1 to 50,000"));
            }
        };
        let bytes = files.bytes_per_file.as_ref().map(|number| self.bytes_per_file(number)).transpose()?;
        let media = files.media_per_file.as_ref().map(|number| self.media_per_file(number)).transpose()?;
        Ok(Cut {
            urls_per_file,
            bytes_per_file: bytes.unwrap_or(10_485_760),
            media_per_file: media.unwrap_or(USUAL_MEDIA),
        })
    }

    pub(super) fn urls_per_file(&self, number: &At<i64>) -> Result<u32, Failure> {
        self.urls_number(number, *number.as_ref())
    }

    fn urls_number<T>(&self, at: &At<T>, number: i64) -> Result<u32, Failure> {
        let number = u32::try_from(number).ok().filter(|number| (1..=MOST_URLS).contains(number));
        number.ok_or_else(|| self.origin.error(at, "“urls_per_file”: expected a number from 1 to 50,000"))
    }

    /// A number within these bounds, or the default.
    pub(super) fn number<N>(
        &self,
        key: &str,
        typed: Option<&At<i64>>,
        (least, most): (N, N),
        usual: N,
    ) -> Result<N, Failure>
    where
        N: TryFrom<i64> + PartialOrd + Copy + std::fmt::Display,
    {
        let Some(typed) = typed else { return Ok(usual) };
        let number = N::try_from(*typed.as_ref()).ok().filter(|number| (least..=most).contains(number));
        number.ok_or_else(|| self.origin.error(typed, format!("“{key}”: expected a number from {least} to {most}")))
    }

    pub(super) fn bytes_per_file(&self, number: &At<i64>) -> Result<u64, Failure> {
        let within = (LEAST_BYTES..=MOST_BYTES as i64).contains(number.as_ref());
        let message = || format!("“bytes_per_file”: expected a number from {LEAST_BYTES} to {MOST_BYTES}");
        if within { Ok(*number.as_ref() as u64) } else { Err(self.origin.error(number, message())) }
    }

    pub(super) fn media_per_file(&self, number: &At<i64>) -> Result<u32, Failure> {
        let most = u64::from(MOST_URLS) * MOST_IMAGES as u64;
        let within = u32::try_from(*number.as_ref()).ok();
        let within = within.filter(|number| *number >= LEAST_MEDIA && u64::from(*number) <= most);
        within.ok_or_else(|| {
            let message = format!(
                "“media_per_file”: expected a number from {LEAST_MEDIA} (twice what one page may have) to {most}"
            );
            self.origin.error(number, message)
        })
    }

    /// The names of files, and the folder for sitemap files; whether they are declared in robots.txt, and whether it
    /// may be created.
    pub(super) fn names(
        &self,
        files: &FilesTable,
        (declares, create_robots): (bool, bool),
    ) -> Result<(Names, PathBuf), Failure> {
        let gzip = match files.gzip.as_ref().map(|word| (word, word.as_ref().as_str())) {
            None | Some((_, "beside")) => Gzip::Beside,
            Some((_, "only")) => Gzip::Only,
            // Compressed bytes under the plain name are the destination's own affair.
            Some((word, ENCODED)) if self.bucket.is_none() => {
                let message = "“gzip”: “encoded” is for a web root in an object store, which tells browsers how bytes are encoded; expected beside, only or off";
                return Err(self.origin.error(word, message));
            }
            Some((_, "off" | ENCODED)) => Gzip::Off,
            Some((word, other)) => {
                let message = format!("“gzip”: “{other}” is unknown; expected beside, only, off or encoded");
                return Err(self.origin.error(word, message));
            }
        };
        let main = files.main.as_ref().map_or(MAIN, |name| name.as_ref());
        if let Some(name) = &files.main
            && (!main.ends_with(".xml")
                || !main.chars().all(|letter| letter.is_ascii_alphanumeric() || "-._~".contains(letter))
                || main.starts_with('.')
                || main.starts_with(CHILD_PREFIX))
        {
            return Err(self.origin.error(name, "“main”: expected a file name of letters, digits, “-”, “.” and “_” that ends in .xml and does not begin with “atlas-”, in the web root itself"));
        }
        let site = self.site.root().as_str();
        let (folder, address) = match (&files.folder, &files.address) {
            (None, None) => (self.web_root.to_owned(), site.to_owned()),
            (Some(folder), Some(address)) => self.elsewhere(folder, address)?,
            (Some(one), None) => {
                let message = "“folder” needs “address” beside it: the URL that this folder is served under";
                return Err(self.origin.error(one, message));
            }
            (None, Some(one)) => {
                let message = "“address” needs “folder” beside it: the folder that is served under this URL";
                return Err(self.origin.error(one, message));
            }
        };
        let names = Names {
            address,
            site: site.to_owned(),
            in_web_root: folder == self.web_root,
            style: files.style.unwrap_or(true).then_some(STYLESHEET_NAME),
            main: main.to_owned(),
            files_per_index: self.number(
                "files_per_index",
                files.files_per_index.as_ref(),
                (1, MOST_FILES),
                MOST_FILES,
            )?,
            folded_days: self.number("folded_days", files.folded_days.as_ref(), (0, 365), FOLDED_DAYS)?,
            gzip,
            declares,
            create_robots,
        };
        Ok((names, folder))
    }

    /// Sitemaps that are served from another host or folder than the site.
    fn elsewhere(&self, folder: &At<String>, address: &At<String>) -> Result<(PathBuf, String), Failure> {
        if self.bucket.is_some() || self.is_served {
            let message = "“folder”: where the web root is no folder, sitemaps are kept where it is; leave “folder” and “address” out";
            return Err(self.origin.error(folder, message));
        }
        let path = self.folder.join(expand(self.origin, folder)?.expose());
        if !path.is_dir() {
            return Err(self.origin.error(folder, format!("“folder”: there is no folder {}", path.display())));
        }
        let whole = |path: &Path| fs::canonicalize(path).unwrap_or_else(|_| path.to_owned());
        let is_inside = [self.folder.join("."), self.web_root.join(".")];
        let is_inside = is_inside.iter().any(|inside| whole(&path).starts_with(whole(inside)));
        let is_ours = |path: &Path| {
            let mut names =
                fs::read_dir(path).into_iter().flatten().flatten().map(|entry| entry.file_name()).peekable();
            names.peek().is_none() || names.any(|name| name.to_string_lossy().starts_with(CHILD_PREFIX))
        };
        let is_named_for_it = Path::new(folder.as_ref()).is_absolute() && is_ours(&path);
        if !is_inside && !is_named_for_it {
            let message = format!(
                "“folder”: {} is neither below the folder of the configuration nor below the web root; such a folder must be named by an absolute path, and be empty or already contain files of this tool",
                path.display()
            );
            return Err(self.origin.error(folder, message));
        }
        if whole(&path) == whole(self.web_root) {
            let message = "“folder” is the web root: leave folder and address out, or name another folder";
            return Err(self.origin.error(folder, message));
        }
        let typed = expand(self.origin, address)?;
        let site = Site::parse(typed.expose()).map_err(|why| {
            let message =
                format!("“address”: {why}; expected a URL such as https://sitemaps.marrowvale.example/railway/");
            self.origin.error(address, typed.hide(message))
        })?;
        Ok((path, site.root().as_str().to_owned()))
    }

    pub(super) fn extras(&self, typed: &ConfigFile, known: &Sections) -> Result<ExtrasSettings, Failure> {
        let host = self.site.root().host();
        let visitors = typed.visitor_page.as_ref().map(|table| -> Result<VisitorSettings, Failure> {
            let language = match &table.language {
                None => "en".to_owned(),
                Some(word) => {
                    language::tag(word.as_ref()).map_err(|why| self.origin.error(word, format!("“language”: {why}")))?
                }
            };
            let template = match &table.template {
                None => PageTemplate::default(),
                Some(file) => self.template(file)?,
            };
            let links = table.entries_per_page.as_ref().map(|number| {
                let within = (1..=MOST_ENTRIES).contains(number.as_ref());
                let message = || format!("“entries_per_page”: expected a number from 1 to {MOST_ENTRIES}");
                if within { Ok(*number.as_ref() as usize) } else { Err(self.origin.error(number, message())) }
            });
            Ok(VisitorSettings {
                title: table.title.clone().unwrap_or_else(|| format!("All pages of {host}")),
                language,
                template,
                entries_per_page: links.transpose()?.unwrap_or(1000),
            })
        });
        let newest = typed.newest.as_ref().map(|table| -> Result<NewestSettings, Failure> {
            let forms = table.forms.as_ref().map(|forms| forms.as_ref().as_slice());
            let has = |form: &str| forms.map_or(form == "atom", |forms| forms.iter().any(|one| one == form));
            if let (Some(at), Some(forms)) = (&table.forms, forms)
                && (forms.is_empty() || forms.iter().any(|form| form != "atom" && form != "rss"))
            {
                return Err(self.origin.error(at, "“forms”: expected [\"atom\"], [\"rss\"] or both"));
            }
            let entries = table.entries.as_ref().map(|number| {
                let within = (1..=1000).contains(number.as_ref());
                let message = "“entries”: expected a number from 1 to 1,000";
                if within { Ok(*number.as_ref() as usize) } else { Err(self.origin.error(number, message)) }
            });
            Ok(NewestSettings {
                title: table.title.clone().unwrap_or_else(|| format!("New at {host}")),
                atom: has("atom"),
                rss: has("rss"),
                entries: entries.transpose()?.unwrap_or(50),
                hubs: hubs(&typed.engine),
                sections: (table.sections.iter())
                    .map(|name| Ok(self.known_section(known, name)? as u16))
                    .collect::<Result<_, Failure>>()?,
            })
        });
        Ok(ExtrasSettings {
            visitors: visitors.transpose()?,
            newest: newest.transpose()?,
            text: typed.files.text,
            structured_data: typed.structured_data.is_some(),
        })
    }

    fn template(&self, file: &At<String>) -> Result<PageTemplate, Failure> {
        let shown = expand(self.origin, file)?;
        let text = fs::read_to_string(self.folder.join(shown.expose()))
            .map_err(|error| self.origin.error(file, format!("“template”: cannot read {shown}: {error}")))?;
        PageTemplate::parse(&text).map_err(|why| self.origin.error(file, format!("“template”: {shown}: {why}")))
    }

    /// The folder for structured data.
    pub(super) fn data_folder(&self, typed: &ConfigFile) -> Result<Option<PathBuf>, Failure> {
        let Some(table) = &typed.structured_data else { return Ok(None) };
        let folder = expand(self.origin, &table.folder)?;
        if folder.expose().trim().is_empty() || Path::new(folder.expose()).is_file() {
            let message = "“folder”: expected a folder of its own, such as structured-data";
            return Err(self.origin.error(&table.folder, message));
        }
        Ok(Some(self.folder.join(folder.expose())))
    }
}

/// The hubs that feeds name: those that are told of them.
fn hubs(engines: &[EngineTable]) -> Vec<String> {
    let hubs = engines.iter().filter(|engine| engine.on && engine.via.as_ref() == "websub");
    hubs.filter_map(|engine| Some(engine.endpoint.as_ref()?.as_ref().clone())).collect()
}
