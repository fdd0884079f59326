-- Planned visits of one region; a visit without a technician belongs to no region yet.
SELECT v.id, s.code AS station, s.name, t.full_name AS technician, v.planned_for, v.purpose
FROM visit v
JOIN station s ON s.id = v.station_id
JOIN technician t ON t.id = v.technician_id
WHERE v.done_at IS NULL
  AND t.region = :region
  AND v.planned_for BETWEEN :from AND :until
