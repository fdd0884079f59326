-- Visits of one region that are planned for a day and not done move to another day.
UPDATE visit
SET planned_for = :to, version = version + 1
WHERE done_at IS NULL
  AND planned_for = :from
  AND technician_id IN (SELECT t.id FROM technician t WHERE t.region = :region);

SELECT v.id, s.code AS station, s.name, t.full_name AS technician, v.planned_for, v.purpose
FROM visit v
JOIN station s ON s.id = v.station_id
JOIN technician t ON t.id = v.technician_id
WHERE v.done_at IS NULL
  AND v.planned_for = :to
  AND t.region = :region
ORDER BY v.id
