-- Alder Basin Water Watch: the `network` database on MariaDB; the same tables and views as in schema.sql.
CREATE TABLE catchment (
    id BIGINT AUTO_INCREMENT PRIMARY KEY,
    name TEXT NOT NULL,
    parent_id BIGINT REFERENCES catchment (id),
    area_km2 DECIMAL(9,2) NOT NULL
);

CREATE TABLE station (
    id BIGINT AUTO_INCREMENT PRIMARY KEY,
    code VARCHAR(12) NOT NULL UNIQUE,
    name TEXT NOT NULL,
    catchment_id BIGINT NOT NULL REFERENCES catchment (id),
    latitude DOUBLE NOT NULL,
    longitude DOUBLE NOT NULL,
    opened_on DATE NOT NULL,
    closed_on DATE,
    telemetered BOOLEAN NOT NULL DEFAULT 1,
    datum_m DECIMAL(7,3) NOT NULL,
    access_notes TEXT,
    photo BLOB,
    changed_at DATETIME(0) NOT NULL
);
CREATE INDEX station_by_catchment ON station (catchment_id);
CREATE INDEX catchment_by_parent ON catchment (parent_id);

CREATE TABLE sensor (
    station_id BIGINT NOT NULL REFERENCES station (id) ON DELETE CASCADE,
    sensor_no BIGINT NOT NULL,
    kind VARCHAR(12) NOT NULL CHECK (kind IN ('level', 'flow', 'temperature', 'turbidity')),
    unit TEXT NOT NULL,
    installed_at DATETIME(0) NOT NULL,
    firmware TEXT,
    settings JSON,
    PRIMARY KEY (station_id, sensor_no)
);

CREATE TABLE reading (
    id BIGINT AUTO_INCREMENT PRIMARY KEY,
    station_id BIGINT NOT NULL,
    sensor_no BIGINT NOT NULL,
    taken_at DATETIME(3) NOT NULL,
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
    valid_months BIGINT NOT NULL
);

CREATE TABLE technician_certificate (
    technician_id UUID NOT NULL REFERENCES technician (id) ON DELETE CASCADE,
    certificate_code VARCHAR(40) NOT NULL REFERENCES certificate (code),
    granted_on DATE NOT NULL,
    expires_on DATE NOT NULL,
    PRIMARY KEY (technician_id, certificate_code)
);

CREATE TABLE visit (
    id BIGINT AUTO_INCREMENT PRIMARY KEY,
    station_id BIGINT NOT NULL REFERENCES station (id),
    technician_id UUID REFERENCES technician (id) ON DELETE SET NULL,
    planned_for DATE NOT NULL,
    done_at DATETIME(0),
    purpose TEXT NOT NULL,
    report TEXT,
    version BIGINT NOT NULL DEFAULT 1
);
CREATE INDEX visit_by_station ON visit (station_id);
CREATE INDEX visit_by_technician ON visit (technician_id);
CREATE INDEX visit_by_plan ON visit (planned_for);

CREATE TABLE visit_task (
    visit_id BIGINT NOT NULL REFERENCES visit (id) ON DELETE CASCADE,
    line_no BIGINT NOT NULL,
    task TEXT NOT NULL,
    minutes TIME(6) NOT NULL,
    done BOOLEAN NOT NULL DEFAULT 0,
    PRIMARY KEY (visit_id, line_no)
);

CREATE TABLE alert_threshold (
    id BIGINT AUTO_INCREMENT PRIMARY KEY,
    station_id BIGINT NOT NULL REFERENCES station (id) ON DELETE CASCADE,
    kind VARCHAR(12) NOT NULL,
    level DECIMAL(12,4) NOT NULL,
    active BOOLEAN NOT NULL DEFAULT 1
);

CREATE TABLE "group" (
    id BIGINT AUTO_INCREMENT PRIMARY KEY,
    "select" TEXT NOT NULL,
    "order" BIGINT NOT NULL,
    "name with space" TEXT,
    "größe m³/s" DECIMAL(8,2)
);

CREATE TABLE import_log (
    imported_on DATE,
    file_name TEXT,
    row_count BIGINT
);

CREATE INDEX technician_certificate_by_certificate ON technician_certificate (certificate_code);

CREATE VIEW station_latest AS
SELECT s.id AS station_id, s.code, s.name, r.sensor_no, r.taken_at, r.value, r.quality
FROM station s
JOIN reading r ON r.id = (SELECT x.id FROM reading x WHERE x.station_id = s.id AND x.sensor_no = 1 ORDER BY x.taken_at DESC, x.id DESC LIMIT 1);

CREATE VIEW daily_summary AS
SELECT station_id, sensor_no, date_format(taken_at, '%Y-%m-%d') AS day, count(*) AS readings,
    cast(min(value) AS DOUBLE) AS lowest, cast(max(value) AS DOUBLE) AS highest, cast(round(avg(value), 4) AS DOUBLE) AS average
FROM reading
GROUP BY station_id, sensor_no, date_format(taken_at, '%Y-%m-%d');

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
SELECT n.kind, r.quality, count(*) AS readings, cast(round(avg(r.value), 4) AS DOUBLE) AS average
FROM reading r
JOIN sensor n ON n.station_id = r.station_id AND n.sensor_no = r.sensor_no
GROUP BY n.kind, r.quality;

CREATE FUNCTION distance_km(latitude_1 DOUBLE, longitude_1 DOUBLE, latitude_2 DOUBLE, longitude_2 DOUBLE) RETURNS DOUBLE DETERMINISTIC COMMENT 'Kilometres between two points'
RETURN 6371 * acos(least(1, sin(radians(latitude_1)) * sin(radians(latitude_2)) + cos(radians(latitude_1)) * cos(radians(latitude_2)) * cos(radians(longitude_1 - longitude_2))));

CREATE PROCEDURE stations_within(latitude DOUBLE, longitude DOUBLE, kilometres DOUBLE) COMMENT 'Stations within a distance of a point'
SELECT s.* FROM station s WHERE distance_km(s.latitude, s.longitude, latitude, longitude) <= kilometres ORDER BY s.id;

CREATE PROCEDURE close_station(IN station BIGINT, IN closed DATE, OUT cancelled BIGINT)
BEGIN
    UPDATE station SET closed_on = closed WHERE id = station;
    DELETE FROM visit WHERE station_id = station AND done_at IS NULL AND planned_for > closed;
    SET cancelled = ROW_COUNT();
END;

CREATE PROCEDURE plan_visit(IN station VARCHAR(12), IN day DATE, IN purpose TEXT, OUT id BIGINT) MODIFIES SQL DATA COMMENT 'Plans a visit of the technician who has the fewest open ones'
BEGIN
    DECLARE station_key BIGINT;
    DECLARE closed DATE;
    DECLARE wrong VARCHAR(80);
    SELECT s.id, s.closed_on INTO station_key, closed FROM station s WHERE s.code = station;
    IF station_key IS NULL THEN
        SET wrong = CONCAT('There is no station ', station, '.');
    ELSEIF closed <= day THEN
        SET wrong = CONCAT('Station ', station, ' is closed since ', closed, '.');
    END IF;
    IF wrong IS NOT NULL THEN
        SIGNAL SQLSTATE '45000' SET MESSAGE_TEXT = wrong;
    END IF;
    -- The technician with the fewest open visits goes.
    INSERT INTO visit (station_id, technician_id, planned_for, purpose)
    SELECT station_key, t.id, day, COALESCE(purpose, 'Inspection')
    FROM technician t
    ORDER BY (SELECT COUNT(*) FROM visit v WHERE v.technician_id = t.id AND v.done_at IS NULL), t.id
    LIMIT 1;
    SET id = LAST_INSERT_ID();
END;
