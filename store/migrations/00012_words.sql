-- +goose Up
-- Words that changed: a run that is started again is resuming, and a figure that tells a part of a whole ends with _ratio.
UPDATE runs SET status = 'resuming' WHERE status = 'recovering';
UPDATE history SET kind = 'resuming' WHERE kind = 'recovering';
UPDATE shapes SET names = ARRAY(
    SELECT regexp_replace(n, '(busy|blocked|held_up|writing|delivering|busiest|lost|late|rejected|memory|cpu)_share$', '\1_ratio')
    FROM unnest(names) WITH ORDINALITY AS x(n, i) ORDER BY i);
UPDATE rules SET condition = regexp_replace(condition, '\m(busy|blocked|held_up|writing|delivering|busiest|lost|late|rejected|memory|cpu)_share\M', '\1_ratio', 'g');

-- +goose Down
UPDATE rules SET condition = regexp_replace(condition, '\m(busy|blocked|held_up|writing|delivering|busiest|lost|late|rejected|memory|cpu)_ratio\M', '\1_share', 'g');
UPDATE shapes SET names = ARRAY(
    SELECT regexp_replace(n, '(busy|blocked|held_up|writing|delivering|busiest|lost|late|rejected|memory|cpu)_ratio$', '\1_share')
    FROM unnest(names) WITH ORDINALITY AS x(n, i) ORDER BY i);
UPDATE history SET kind = 'recovering' WHERE kind = 'resuming';
UPDATE runs SET status = 'recovering' WHERE status = 'resuming';
