-- The club's own database, as somebody designed it by hand: five tables, nearly empty.
-- sqlite3 club.db < club.sql
CREATE TABLE district (id INTEGER PRIMARY KEY, name VARCHAR(60) NOT NULL UNIQUE, inspector VARCHAR(80));
CREATE TABLE apiary (
    id INTEGER PRIMARY KEY, name VARCHAR(60) NOT NULL UNIQUE, grid_ref VARCHAR(20), altitude INTEGER CHECK (altitude < 1000),
    district_id INTEGER NOT NULL REFERENCES district (id));
CREATE TABLE hive (
    hive_no VARCHAR(10) PRIMARY KEY, kind VARCHAR(40), apiary_id INTEGER NOT NULL REFERENCES apiary (id));
CREATE TABLE keeper (
    id INTEGER PRIMARY KEY, full_name VARCHAR(80) NOT NULL UNIQUE, phone VARCHAR(30), member_since INTEGER,
    noted_at TIMESTAMP DEFAULT CURRENT_TIMESTAMP);
CREATE TABLE inspection (
    id INTEGER PRIMARY KEY, inspection_no INTEGER NOT NULL UNIQUE, inspected_on DATE NOT NULL,
    hive_no VARCHAR(10) NOT NULL REFERENCES hive (hive_no), keeper_id INTEGER NOT NULL REFERENCES keeper (id),
    frames INTEGER, honey_kg DECIMAL(6,2), calm BOOLEAN, notes TEXT,
    inspected_in INTEGER GENERATED ALWAYS AS (CAST(substr(inspected_on, 1, 4) AS INTEGER)) VIRTUAL);
INSERT INTO district (name, inspector) VALUES ('Saltersby', 'Ludo Drosselmann'), ('Far Away', NULL);
INSERT INTO apiary (name, grid_ref, altitude, district_id) VALUES ('Upper Common', 'XK 45 68', 315, 1);
INSERT INTO keeper (full_name, phone, member_since) VALUES ('Fabian Jernigan', '0555 352035', 2007);
