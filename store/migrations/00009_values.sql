-- +goose Up
-- What books and others state of a car, as written, each with its source. Sources that
-- contradict each other all stay.
CREATE TABLE car_values (
  id TEXT PRIMARY KEY, vehicle_id TEXT NOT NULL REFERENCES vehicles(id), what TEXT NOT NULL, part TEXT NOT NULL, said TEXT NOT NULL, source TEXT NOT NULL,
  at DATETIME NOT NULL, struck_at DATETIME);
CREATE INDEX car_values_vehicle ON car_values(vehicle_id);
