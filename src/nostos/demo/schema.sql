CREATE TABLE members (
  id INTEGER PRIMARY KEY AUTOINCREMENT,
  login TEXT NOT NULL UNIQUE,
  name TEXT NOT NULL,
  email TEXT NOT NULL,
  role TEXT NOT NULL DEFAULT 'member',
  joined TEXT NOT NULL
);
CREATE TABLE content (
  id INTEGER PRIMARY KEY AUTOINCREMENT,
  kind TEXT NOT NULL,
  slug TEXT NOT NULL,
  title TEXT NOT NULL,
  body TEXT NOT NULL DEFAULT '',
  status TEXT NOT NULL DEFAULT 'public',
  parent_id INTEGER REFERENCES content(id),
  author_id INTEGER REFERENCES members(id),
  file TEXT,
  created TEXT NOT NULL,
  modified TEXT NOT NULL,
  comment_count INTEGER NOT NULL DEFAULT 0,
  UNIQUE (kind, slug)
);
CREATE TABLE content_fields (
  id INTEGER PRIMARY KEY AUTOINCREMENT,
  content_id INTEGER NOT NULL REFERENCES content(id),
  name TEXT NOT NULL,
  value TEXT NOT NULL
);
CREATE INDEX content_fields_by_content ON content_fields (content_id, name);
CREATE TABLE terms (
  id INTEGER PRIMARY KEY AUTOINCREMENT,
  taxonomy TEXT NOT NULL,
  slug TEXT NOT NULL,
  title TEXT NOT NULL,
  uses INTEGER NOT NULL DEFAULT 0,
  UNIQUE (taxonomy, slug)
);
CREATE TABLE term_links (
  content_id INTEGER NOT NULL REFERENCES content(id),
  term_id INTEGER NOT NULL REFERENCES terms(id),
  PRIMARY KEY (content_id, term_id)
) WITHOUT ROWID;
CREATE TABLE comments (
  id INTEGER PRIMARY KEY AUTOINCREMENT,
  content_id INTEGER NOT NULL REFERENCES content(id),
  parent_id INTEGER REFERENCES comments(id),
  name TEXT NOT NULL,
  email TEXT NOT NULL,
  body TEXT NOT NULL,
  status TEXT NOT NULL DEFAULT 'shown',
  created TEXT NOT NULL
);
CREATE INDEX comments_by_content ON comments (content_id);
CREATE TABLE order_lines (
  id INTEGER PRIMARY KEY AUTOINCREMENT,
  order_id INTEGER NOT NULL REFERENCES content(id),
  product_id INTEGER NOT NULL REFERENCES content(id),
  quantity INTEGER NOT NULL,
  cents INTEGER NOT NULL
);
CREATE INDEX order_lines_by_order ON order_lines (order_id);
CREATE TABLE settings (
  id INTEGER PRIMARY KEY AUTOINCREMENT,
  name TEXT NOT NULL UNIQUE,
  value TEXT NOT NULL
);
CREATE TABLE cache (name TEXT PRIMARY KEY, value TEXT NOT NULL, until TEXT NOT NULL);
CREATE TABLE sessions (token TEXT PRIMARY KEY, member_id INTEGER, seen TEXT NOT NULL);
