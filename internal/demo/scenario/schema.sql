-- The setup tables of the laboratory information system at Fernhollow Diagnostics.
-- Both databases have these tables; the internal ids differ. Words in braces are
-- replaced by the engine's own; production has less room for the names of panels.
CREATE TABLE departments (
  department_id {id}, code VARCHAR(12) NOT NULL, name VARCHAR(60) NOT NULL,
  parent_id INTEGER REFERENCES departments (department_id),
  updated_at {timestamp} NOT NULL DEFAULT CURRENT_TIMESTAMP, updated_by TEXT NOT NULL DEFAULT 'lis', UNIQUE (parent_id, code));
CREATE TABLE units (
  unit_id {id}, code VARCHAR(16) NOT NULL UNIQUE, name VARCHAR(60) NOT NULL,
  updated_at {timestamp} NOT NULL DEFAULT CURRENT_TIMESTAMP, updated_by TEXT NOT NULL DEFAULT 'lis');
CREATE TABLE specimen_types (
  specimen_type_id {id}, code VARCHAR(12) NOT NULL UNIQUE, name VARCHAR(60) NOT NULL, stable_hours INTEGER,
  updated_at {timestamp} NOT NULL DEFAULT CURRENT_TIMESTAMP, updated_by TEXT NOT NULL DEFAULT 'lis');
CREATE TABLE containers (
  container_id {id}, code VARCHAR(12) NOT NULL UNIQUE, name VARCHAR(60) NOT NULL UNIQUE, volume_ml DECIMAL(6,2),
  updated_at {timestamp} NOT NULL DEFAULT CURRENT_TIMESTAMP, updated_by TEXT NOT NULL DEFAULT 'lis');
CREATE TABLE assays (
  assay_id {id}, code VARCHAR(12) NOT NULL UNIQUE, name VARCHAR(60) NOT NULL,
  department_id INTEGER NOT NULL REFERENCES departments (department_id),
  unit_id INTEGER REFERENCES units (unit_id),
  specimen_type_id INTEGER NOT NULL REFERENCES specimen_types (specimen_type_id),
  container_id INTEGER REFERENCES containers (container_id),
  fallback_assay_id INTEGER REFERENCES assays (assay_id),
  decimals INTEGER NOT NULL DEFAULT 0, turnaround_hours INTEGER NOT NULL DEFAULT 24,
  status CHAR(1) NOT NULL DEFAULT 'A', method_sheet {bytes},
  created_at {timestamp} NOT NULL DEFAULT CURRENT_TIMESTAMP,
  updated_at {timestamp} NOT NULL DEFAULT CURRENT_TIMESTAMP, updated_by TEXT NOT NULL DEFAULT 'lis');
CREATE TABLE assay_ranges (
  range_id {id}, assay_id INTEGER NOT NULL REFERENCES assays (assay_id),
  sex CHAR(1) NOT NULL, age_from DECIMAL(5,2) NOT NULL, age_to DECIMAL(5,2), low DECIMAL(12,4), high DECIMAL(12,4),
  critical BOOLEAN NOT NULL DEFAULT {false},
  updated_at {timestamp} NOT NULL DEFAULT CURRENT_TIMESTAMP, updated_by TEXT NOT NULL DEFAULT 'lis', UNIQUE (assay_id, sex, age_from));
CREATE TABLE panels (
  panel_id {id}, code VARCHAR(12) NOT NULL UNIQUE, name VARCHAR({wide}) NOT NULL{fits},
  lead_assay_id INTEGER REFERENCES assays (assay_id), status CHAR(1) NOT NULL DEFAULT 'A',
  updated_at {timestamp} NOT NULL DEFAULT CURRENT_TIMESTAMP, updated_by TEXT NOT NULL DEFAULT 'lis');
CREATE TABLE panel_items (
  panel_id INTEGER NOT NULL REFERENCES panels (panel_id), assay_id INTEGER NOT NULL REFERENCES assays (assay_id),
  sort_no INTEGER NOT NULL, PRIMARY KEY (panel_id, assay_id));
CREATE TABLE instruments (
  instrument_id {id}, code VARCHAR(12) NOT NULL UNIQUE, name VARCHAR(60) NOT NULL,
  department_id INTEGER NOT NULL REFERENCES departments (department_id),
  endpoint_url TEXT, endpoint_token TEXT, status CHAR(1) NOT NULL DEFAULT 'A',
  updated_at {timestamp} NOT NULL DEFAULT CURRENT_TIMESTAMP, updated_by TEXT NOT NULL DEFAULT 'lis');
CREATE TABLE instrument_links (
  instrument_id INTEGER NOT NULL REFERENCES instruments (instrument_id), assay_id INTEGER NOT NULL REFERENCES assays (assay_id),
  channel INTEGER, active BOOLEAN NOT NULL DEFAULT {true}, PRIMARY KEY (instrument_id, assay_id));
CREATE TABLE price_lists (
  price_list_id {id}, code VARCHAR(12) NOT NULL UNIQUE, name VARCHAR(60) NOT NULL, currency CHAR(3) NOT NULL,
  updated_at {timestamp} NOT NULL DEFAULT CURRENT_TIMESTAMP, updated_by TEXT NOT NULL DEFAULT 'lis');
CREATE TABLE price_lines (
  price_line_id {id}, price_list_id INTEGER NOT NULL REFERENCES price_lists (price_list_id),
  assay_id INTEGER NOT NULL REFERENCES assays (assay_id), valid_from DATE NOT NULL, price DECIMAL(10,2) NOT NULL,
  updated_at {timestamp} NOT NULL DEFAULT CURRENT_TIMESTAMP, updated_by TEXT NOT NULL DEFAULT 'lis', UNIQUE (price_list_id, assay_id, valid_from));
CREATE TABLE comment_codes (
  comment_id {id}, code VARCHAR(12) {exact} NOT NULL UNIQUE, text TEXT NOT NULL, status CHAR(1) NOT NULL DEFAULT 'A',
  updated_at {timestamp} NOT NULL DEFAULT CURRENT_TIMESTAMP, updated_by TEXT NOT NULL DEFAULT 'lis');
CREATE TABLE reflex_rules (
  rule_id {id}, code VARCHAR(12) NOT NULL UNIQUE,
  trigger_assay_id INTEGER NOT NULL REFERENCES assays (assay_id), then_assay_id INTEGER NOT NULL REFERENCES assays (assay_id),
  {quote}condition{quote} JSON NOT NULL, active BOOLEAN NOT NULL DEFAULT {true},
  updated_at {timestamp} NOT NULL DEFAULT CURRENT_TIMESTAMP, updated_by TEXT NOT NULL DEFAULT 'lis');
CREATE TABLE report_templates (
  template_id {id}, code VARCHAR(12) NOT NULL UNIQUE, name VARCHAR(60) NOT NULL, body {bytes},
  updated_at {timestamp} NOT NULL DEFAULT CURRENT_TIMESTAMP, updated_by TEXT NOT NULL DEFAULT 'lis');
CREATE TABLE roles (
  role_id {id}, code VARCHAR(12) NOT NULL UNIQUE, name VARCHAR(60) NOT NULL,
  updated_at {timestamp} NOT NULL DEFAULT CURRENT_TIMESTAMP, updated_by TEXT NOT NULL DEFAULT 'lis');
CREATE TABLE role_rights (
  role_id INTEGER NOT NULL REFERENCES roles (role_id), right_code VARCHAR(20) NOT NULL, level VARCHAR(8) NOT NULL, PRIMARY KEY (role_id, right_code));
CREATE TABLE holidays (day DATE PRIMARY KEY, name VARCHAR(60) NOT NULL);
CREATE TABLE settings (code VARCHAR(30) PRIMARY KEY, value TEXT, updated_at {timestamp} NOT NULL DEFAULT CURRENT_TIMESTAMP, updated_by TEXT NOT NULL DEFAULT 'lis');
