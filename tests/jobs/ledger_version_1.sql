BEGIN TRANSACTION;
CREATE TABLE attempt (
	id INTEGER NOT NULL, 
	piece INTEGER NOT NULL, 
	started FLOAT NOT NULL, 
	ended FLOAT, 
	bytes INTEGER NOT NULL, 
	outcome VARCHAR, 
	error VARCHAR, 
	billed FLOAT NOT NULL, 
	cost VARCHAR, 
	PRIMARY KEY (id), 
	FOREIGN KEY(piece) REFERENCES piece (id)
);
INSERT INTO "attempt" VALUES(1,1,1790000000.0,1790000000.0,1000,'done',NULL,30.0,'0.002');
INSERT INTO "attempt" VALUES(2,2,1790000000.0,NULL,900,NULL,NULL,0.0,NULL);
CREATE TABLE job (
	id VARCHAR NOT NULL, 
	recording VARCHAR NOT NULL, 
	digest VARCHAR NOT NULL, 
	engine VARCHAR NOT NULL, 
	state VARCHAR NOT NULL, 
	reason VARCHAR, 
	duration FLOAT, 
	currency VARCHAR, 
	created FLOAT NOT NULL, 
	changed FLOAT NOT NULL, 
	PRIMARY KEY (id)
);
INSERT INTO "job" VALUES('0aa1bb2cc3dd','dawn.wav','sha256:11','brook','waiting','low tide',60.0,'shells',1790000000.0,1790000000.0);
CREATE TABLE ledger (
	version INTEGER NOT NULL
);
INSERT INTO "ledger" VALUES(1);
CREATE TABLE piece (
	id INTEGER NOT NULL, 
	job VARCHAR NOT NULL, 
	request VARCHAR NOT NULL, 
	channel INTEGER, 
	start FLOAT NOT NULL, 
	"end" FLOAT NOT NULL, 
	state VARCHAR NOT NULL, 
	owner VARCHAR, 
	ticket VARCHAR, 
	reply VARCHAR, 
	saved BOOLEAN NOT NULL, 
	PRIMARY KEY (id), 
	UNIQUE (job, request), 
	FOREIGN KEY(job) REFERENCES job (id)
);
INSERT INTO "piece" VALUES(1,'0aa1bb2cc3dd','r1',NULL,0.0,30.0,'done','hut:4242:1:0',NULL,'sha256:a3f7e1eae5f8238da3b39e3ca4a6d5ad86a8119987e667df2635fe90f2bfa726',0);
INSERT INTO "piece" VALUES(2,'0aa1bb2cc3dd','r2',NULL,30.0,60.0,'sending','hut:4242:1:0',NULL,NULL,0);
CREATE TABLE process (
	owner VARCHAR NOT NULL, 
	seen FLOAT NOT NULL, 
	PRIMARY KEY (owner)
);
INSERT INTO "process" VALUES('hut:4242:1:0',1790000000.0);
CREATE TABLE start (
	engine VARCHAR NOT NULL, 
	moment FLOAT NOT NULL
);
CREATE INDEX ix_job_state ON job (state);
CREATE INDEX ix_job_created ON job (created);
CREATE INDEX ix_job_engine ON job (engine);
CREATE INDEX start_by_engine ON start (engine, moment);
CREATE INDEX ix_piece_request ON piece (request);
CREATE INDEX ix_piece_job ON piece (job);
CREATE INDEX ix_attempt_piece ON attempt (piece);
CREATE INDEX ix_attempt_started ON attempt (started);
COMMIT;
