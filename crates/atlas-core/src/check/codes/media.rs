//! Findings about pictures, videos and news in sitemap files.

use super::declare;

declare! { OF_MEDIA;
    TOO_MANY_IMAGES = "too-many-images", Error,
        "An entry has more than 1,000 pictures.",
        "a url with 1,204 image:image elements",
        "1,000 pictures is the limit for one URL.";
    IMAGE_NO_URL = "image-no-url", Error,
        "A picture has no URL, or one that is not absolute.",
        "<image:image><image:loc>/viaduct.jpg</image:loc></image:image>",
        "Give each image:image an image:loc with an absolute URL.";
    VIDEO_INCOMPLETE = "video-incomplete", Error,
        "A video lacks its thumbnail, title or description. Engines ignore it.",
        "<video:video><video:title>Cab ride</video:title></video:video>",
        "A video needs a thumbnail, a title, a description, and a media file or player.";
    VIDEO_NO_PLACE = "video-no-place", Error,
        "A video has neither content_loc nor player_loc, so nothing says where it is.",
        "<video:video> without video:content_loc and video:player_loc",
        "Give the media file as content_loc, the player as player_loc, or both.";
    VIDEO_IS_PAGE = "video-is-page", Error,
        "The content_loc or player_loc of a video is the page that it is on.",
        "<loc>https://www.marrowvale.example/films/</loc>\n<video:player_loc>https://www.marrowvale.example/films/</video:player_loc>",
        "Name the media file as content_loc and the embedded player as player_loc, never the page.";
    VIDEO_NO_URL = "video-no-url", Error,
        "A URL of a video is not absolute.",
        "<video:thumbnail_loc>/cab.jpg</video:thumbnail_loc>",
        "Write absolute http or https URLs, percent-encoded.";
    VIDEO_DESCRIPTION = "video-description", Error,
        "The description of a video has more than 2,048 characters.",
        "<video:description>… (3,100 characters)</video:description>",
        "Shorten it: 2,048 characters is the limit.";
    VIDEO_DURATION = "video-duration", Error,
        "The duration of a video is not a whole number of seconds from 1 to 28,800.",
        "<video:duration>PT1M35S</video:duration>",
        "Write whole seconds, 1 to 28,800.";
    VIDEO_RATING = "video-rating", Error,
        "The rating of a video is not a number from 0.0 to 5.0.",
        "<video:rating>7</video:rating>",
        "Write a number from 0.0 to 5.0, or leave it out.";
    VIDEO_VIEWS = "video-views", Error,
        "The view_count of a video is not a whole number.",
        "<video:view_count>12k</video:view_count>",
        "Write a whole number, or leave it out.";
    VIDEO_DATE = "video-date", Error,
        "The expiration_date or publication_date of a video is not a date.",
        "<video:publication_date>spring</video:publication_date>",
        "Write YYYY-MM-DD, or with time, seconds and zone.";
    VIDEO_EXPIRED = "video-expired", Warning,
        "The expiration_date of a video has passed. Engines no longer show it.",
        "<video:expiration_date>2019-01-01</video:expiration_date>",
        "Leave the video out, or correct the date.";
    VIDEO_TAGS = "video-tags", Error,
        "A video has more than 32 tags.",
        "a video:video with 40 video:tag elements",
        "Keep the 32 tags that describe it best.";
    VIDEO_YES_NO = "video-yes-no", Error,
        "family_friendly, requires_subscription or live has another value than yes and no.",
        "<video:live>true</video:live>",
        "Write yes or no.";
    VIDEO_COUNTRIES = "video-countries", Error,
        "The restriction of a video has no relationship, or names something that is not a country.",
        "<video:restriction relationship=\"allow\">UK</video:restriction>",
        "Set relationship to allow or deny, and list ISO 3166-1 codes of two letters, separated by spaces.";
    VIDEO_PLATFORMS = "video-platforms", Error,
        "The platform of a video has no relationship, or names something else than web, mobile and tv.",
        "<video:platform relationship=\"allow\">desktop</video:platform>",
        "Set relationship to allow or deny, and list any of web, mobile, tv.";
    VIDEO_UPLOADER = "video-uploader", Error,
        "The uploader of a video has more than 255 characters, or its info is on another host.",
        "<video:uploader info=\"https://quay.example/ada\">Ada</video:uploader>",
        "Shorten the name to 255 characters, and let info name a page on the host of the sitemap.";
    NEWS_INCOMPLETE = "news-incomplete", Error,
        "A news element lacks the publication's name or language, the date or the title.",
        "<news:news><news:title>Viaduct opens</news:title></news:news>",
        "An article needs news:publication with name and language, news:publication_date and news:title.";
    NEWS_LANGUAGE = "news-language", Error,
        "The language of a publication is not an ISO 639 code.",
        "<news:language>english</news:language>",
        "Write an ISO 639 code of two or three letters, or zh-cn or zh-tw.";
    NEWS_TOO_MANY = "news-too-many", Error,
        "A file has more than 1,000 news articles.",
        "a urlset with 1,400 news:news elements",
        "Split the file: 1,000 news articles is the limit.";
    NEWS_TOO_OLD = "news-too-old", Warning,
        "An article was published more than two days ago. After that the news element has to go.",
        "<news:publication_date>2026-10-01</news:publication_date>",
        "Build again: after two days an article is no longer news.";
}
