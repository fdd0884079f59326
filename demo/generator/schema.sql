-- Alder Basin Water Watch: the `network` database. All names are made up.
CREATE TABLE catchment (
    id INTEGER PRIMARY KEY,
    name TEXT NOT NULL,
    parent_id INTEGER REFERENCES catchment (id),
    area_km2 DECIMAL(9,2) NOT NULL
);

CREATE TABLE station (
    id INTEGER PRIMARY KEY,
    code VARCHAR(12) NOT NULL UNIQUE,
    name TEXT NOT NULL,
    catchment_id INTEGER NOT NULL REFERENCES catchment (id),
    latitude DOUBLE NOT NULL,
    longitude DOUBLE NOT NULL,
    opened_on DATE NOT NULL,
    closed_on DATE,
    telemetered BOOLEAN NOT NULL DEFAULT 1,
    datum_m DECIMAL(7,3) NOT NULL,
    access_notes TEXT,
    photo BLOB,
    changed_at TIMESTAMP NOT NULL
);
CREATE INDEX station_by_catchment ON station (catchment_id);
CREATE INDEX catchment_by_parent ON catchment (parent_id);

CREATE TABLE sensor (
    station_id INTEGER NOT NULL REFERENCES station (id) ON DELETE CASCADE,
    sensor_no INTEGER NOT NULL,
    kind VARCHAR(12) NOT NULL CHECK (kind IN ('level', 'flow', 'temperature', 'turbidity')),
    unit TEXT NOT NULL,
    installed_at TIMESTAMP NOT NULL,
    firmware TEXT,
    settings JSON,
    PRIMARY KEY (station_id, sensor_no)
);

CREATE TABLE reading (
    id INTEGER PRIMARY KEY,
    station_id INTEGER NOT NULL,
    sensor_no INTEGER NOT NULL,
    taken_at TIMESTAMP NOT NULL,
    value DECIMAL(12,4),
    quality CHAR(1),
    note TEXT,
    FOREIGN KEY (station_id, sensor_no) REFERENCES sensor (station_id, sensor_no) ON DELETE CASCADE
);

CREATE TABLE technician (
    id UUID NOT NULL PRIMARY KEY,
    full_name TEXT NOT NULL,
    email TEXT NOT NULL UNIQUE,
    region TEXT NOT NULL,
    active BOOLEAN NOT NULL DEFAULT 1
);

CREATE TABLE certificate (
    code VARCHAR(40) NOT NULL PRIMARY KEY,
    name TEXT NOT NULL,
    valid_months INTEGER NOT NULL
);

CREATE TABLE technician_certificate (
    technician_id UUID NOT NULL REFERENCES technician (id) ON DELETE CASCADE,
    certificate_code VARCHAR(40) NOT NULL REFERENCES certificate (code),
    granted_on DATE NOT NULL,
    expires_on DATE NOT NULL,
    PRIMARY KEY (technician_id, certificate_code)
);

CREATE TABLE visit (
    id INTEGER PRIMARY KEY,
    station_id INTEGER NOT NULL REFERENCES station (id),
    technician_id UUID REFERENCES technician (id) ON DELETE SET NULL,
    planned_for DATE NOT NULL,
    done_at TIMESTAMP,
    purpose TEXT NOT NULL,
    report TEXT,
    version INTEGER NOT NULL DEFAULT 1
);
CREATE INDEX visit_by_station ON visit (station_id);
CREATE INDEX visit_by_technician ON visit (technician_id);
CREATE INDEX visit_by_plan ON visit (planned_for);

CREATE TABLE visit_task (
    visit_id INTEGER NOT NULL REFERENCES visit (id) ON DELETE CASCADE,
    line_no INTEGER NOT NULL,
    task TEXT NOT NULL,
    minutes INTERVAL MINUTE NOT NULL, -- kept as seconds
    done BOOLEAN NOT NULL DEFAULT 0,
    PRIMARY KEY (visit_id, line_no)
);

CREATE TABLE alert_threshold (
    id INTEGER PRIMARY KEY,
    station_id INTEGER NOT NULL REFERENCES station (id) ON DELETE CASCADE,
    kind VARCHAR(12) NOT NULL,
    level DECIMAL(12,4) NOT NULL,
    active BOOLEAN NOT NULL DEFAULT 1
);

CREATE TABLE "group" (
    id INTEGER PRIMARY KEY,
    "select" TEXT NOT NULL,
    "order" INTEGER NOT NULL,
    "name with space" TEXT,
    "größe m³/s" DECIMAL(8,2)
);

CREATE TABLE import_log (
    imported_on DATE,
    file_name TEXT,
    row_count INTEGER
);

CREATE INDEX technician_certificate_by_certificate ON technician_certificate (certificate_code);

CREATE VIEW station_latest AS
SELECT s.id AS station_id, s.code, s.name, r.sensor_no, r.taken_at, r.value, r.quality
FROM station s
JOIN reading r ON r.id = (SELECT x.id FROM reading x WHERE x.station_id = s.id AND x.sensor_no = 1 ORDER BY x.taken_at DESC, x.id DESC LIMIT 1);

CREATE VIEW daily_summary AS
SELECT station_id, sensor_no, date(taken_at) AS day, count(*) AS readings, min(value) AS lowest, max(value) AS highest, round(avg(value), 4) AS average
FROM reading
GROUP BY station_id, sensor_no, date(taken_at);

CREATE VIEW open_alert AS
SELECT a.id AS threshold_id, a.station_id, l.code, l.name, a.kind, a.level, l.value, l.taken_at
FROM alert_threshold a
JOIN station_latest l ON l.station_id = a.station_id
WHERE a.active = 1 AND a.kind = 'level' AND l.value >= a.level;

CREATE VIEW visit_report AS
SELECT v.id AS visit_id, s.code AS station_code, s.name AS station_name, t.full_name AS technician_name, v.planned_for, v.done_at, v.purpose, v.report
FROM visit v
JOIN station s ON s.id = v.station_id
LEFT JOIN technician t ON t.id = v.technician_id;

CREATE VIEW reading_by_quality AS
SELECT n.kind, r.quality, count(*) AS readings, round(avg(r.value), 4) AS average
FROM reading r
JOIN sensor n ON n.station_id = r.station_id AND n.sensor_no = r.sensor_no
GROUP BY n.kind, r.quality;
