-- Alder Basin Water Watch: the `lab` database. All names are made up.
CREATE TABLE analyte (
    code VARCHAR(8) NOT NULL PRIMARY KEY,
    name TEXT NOT NULL,
    unit TEXT NOT NULL
);

CREATE TABLE sample (
    id UUID NOT NULL PRIMARY KEY,
    station_code VARCHAR(12) NOT NULL, -- as station.code in the other database
    taken_on DATE NOT NULL
);

CREATE TABLE result (
    sample_id UUID NOT NULL REFERENCES sample (id) ON DELETE CASCADE,
    analyte_code VARCHAR(8) NOT NULL REFERENCES analyte (code),
    value DECIMAL(10,3),
    qualifier VARCHAR(1) CHECK (qualifier IN ('<', '>')),
    detection_limit DECIMAL(10,3),
    PRIMARY KEY (sample_id, analyte_code)
);

CREATE INDEX sample_by_station ON sample (station_code);
CREATE INDEX result_by_analyte ON result (analyte_code);
