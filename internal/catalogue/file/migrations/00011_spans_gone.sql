-- +goose Up
-- What the blocks hold now.
DROP TABLE spans;
DROP TABLE store_dirs;
DROP TABLE names;
DROP TABLE names_fed;
DROP TABLE places;
DELETE FROM dirs WHERE id NOT IN (SELECT dir_id FROM folders WHERE dir_id IS NOT NULL) AND id NOT IN (SELECT dir_id FROM elsewhere);
