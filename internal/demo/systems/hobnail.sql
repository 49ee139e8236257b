CREATE TABLE wharf (no INTEGER PRIMARY KEY, title TEXT, strapline TEXT, language TEXT, zone TEXT, blurb TEXT, words TEXT, front TEXT, front_page TEXT,
  missing_page TEXT, fault_page TEXT, find_page TEXT, berth_page TEXT, gate_page TEXT, usual_department TEXT, address_shape TEXT, department_prefix TEXT, address_ending TEXT, rewrite TEXT, paint TEXT, beacons TEXT);
CREATE TABLE lading (wharf_no INTEGER NOT NULL, item VARCHAR(120) NOT NULL, content TEXT, PRIMARY KEY (wharf_no, item));
CREATE TABLE crew (no INTEGER PRIMARY KEY, hail VARCHAR(190) NOT NULL UNIQUE, grade TEXT NOT NULL, signed_on TEXT NOT NULL, second_key INTEGER NOT NULL, last_aboard TEXT);
CREATE TABLE fittings (no INTEGER PRIMARY KEY, fitting TEXT NOT NULL, make TEXT NOT NULL, fitted INTEGER NOT NULL, version TEXT NOT NULL, newest TEXT, painted_on TEXT);
CREATE TABLE bells (no INTEGER PRIMARY KEY, bell TEXT NOT NULL, rings_at TEXT NOT NULL, asks_twice INTEGER NOT NULL);
CREATE TABLE bridges (no INTEGER PRIMARY KEY, bridge TEXT NOT NULL, leads_over INTEGER NOT NULL);
CREATE TABLE bales (no INTEGER PRIMARY KEY, stowed_at TEXT NOT NULL, tied TEXT NOT NULL);
CREATE TABLE towropes (no INTEGER PRIMARY KEY, rope TEXT NOT NULL, boat TEXT NOT NULL, way TEXT NOT NULL, spliced TEXT NOT NULL, last_pulled TEXT, knot TEXT);
CREATE TABLE sheets (no INTEGER PRIMARY KEY, mark VARCHAR(190) NOT NULL UNIQUE, caption TEXT NOT NULL, cut TEXT NOT NULL, berth TEXT NOT NULL,
  launched TEXT NOT NULL, blurb TEXT NOT NULL, words TEXT NOT NULL, off_the_chart INTEGER NOT NULL)
