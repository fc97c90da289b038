create table goods (id integer primary key, slug text, name text, photo text, updated_at text, is_public integer);
insert into goods values
    (1, 'oil-can', 'Oil can', '/pictures/oil-can.jpg', '2026-10-01T10:00:00Z', 1),
    (2, 'lamp-wick', 'Lamp wick', '/pictures/lamp-wick.jpg', '2026-11-02T09:30:00Z', 1),
    (3, 'guard-s-whistle', 'Guard’s whistle', '/pictures/whistle.jpg', '2026-11-20T16:00:00Z', 1),
    (4, 'gala-mug', 'Gala mug', '/pictures/gala-mug.jpg', '2026-11-22T08:00:00Z', 0);
create table orders (id integer primary key, mail text);
