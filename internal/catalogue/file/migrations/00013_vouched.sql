-- +goose Up
-- What stores say of where their copies came from was believed of whoever may write them. Those that tell points in time are read anew,
-- what others hold is looked at again; the next survey, which begins by itself, does both.
UPDATE sources SET renew = 1, trouble = 'An earlier version of the program believed it without asking who may write it. It is read anew by the next survey, which begins by itself.'
  WHERE kind IN ('archive', 'history') AND surveyed_at IS NOT NULL;
UPDATE sources SET recheck = 1 WHERE kind IN ('strays', 'cloud', 'trash') AND surveyed_at IS NOT NULL;
