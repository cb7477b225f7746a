-- +goose Up
-- Says in the file's header whose it is: "WXTR".
PRAGMA application_id = 1465406546;
