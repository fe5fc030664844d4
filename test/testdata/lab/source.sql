CREATE TABLE units (id INTEGER PRIMARY KEY, code TEXT NOT NULL UNIQUE, name TEXT);
CREATE TABLE assays (id INTEGER PRIMARY KEY, code TEXT NOT NULL UNIQUE, name TEXT, unit INTEGER REFERENCES units);
CREATE TABLE ranges (id INTEGER PRIMARY KEY, assay INTEGER NOT NULL REFERENCES assays, sex TEXT NOT NULL, low INTEGER, UNIQUE (assay, sex));
CREATE TABLE rules (id INTEGER PRIMARY KEY, code TEXT NOT NULL UNIQUE, assay INTEGER NOT NULL REFERENCES assays, active INTEGER);
INSERT INTO units VALUES (1,'g','gram'),(2,'mg','milligram');
INSERT INTO assays VALUES (1,'GLU','Glucose',1),(2,'NEW','New one',2),(3,'OLD2','Old one, renamed',1);
INSERT INTO ranges VALUES (1,1,'F',5),(2,1,'M',6),(3,2,'F',7),(4,2,'M',8);
INSERT INTO rules VALUES (1,'R1',2,1),(2,'R2',2,1);
