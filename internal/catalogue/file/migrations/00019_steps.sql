-- +goose Up
-- How far apart its captures were, see package thinning: most of those that showed nothing new are not kept.
ALTER TABLE sources ADD COLUMN steps TEXT NOT NULL DEFAULT '{}';
