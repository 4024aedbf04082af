"""A shard that was told that there is nothing more, and has used what it had, says so: others wait
for it no longer.
"""

from django.db import migrations

RETURN = """
CREATE OR REPLACE FUNCTION return_rows(p_shard bigint, p_pile text, p_first bigint, p_count bigint) RETURNS void
LANGUAGE plpgsql SECURITY DEFINER SET search_path = public, pg_temp AS $$
DECLARE r uuid; n int; f runs_lease%ROWTYPE;
BEGIN
  SELECT run_id, number INTO r, n FROM runs_shard WHERE id = p_shard AND state = 'running';
  IF NOT FOUND OR p_count < 0 THEN RETURN; END IF;
  PERFORM 1 FROM runs_pile WHERE run_id = r AND name = p_pile FOR UPDATE;
  IF p_count = 0 THEN
    UPDATE runs_lease SET done = true WHERE run_id = r AND name = p_pile AND shard = n AND NOT done;
    RETURN;
  END IF;
  SELECT * INTO f FROM runs_lease
    WHERE run_id = r AND name = p_pile AND shard = n AND first <= p_first AND first + count >= p_first + p_count
    LIMIT 1;
  IF NOT FOUND THEN RETURN; END IF;
  IF p_first = f.first THEN DELETE FROM runs_lease WHERE id = f.id;
  ELSE UPDATE runs_lease SET count = p_first - f.first, done = true WHERE id = f.id; END IF;
  INSERT INTO runs_lease (run_id, name, shard, first, count, begun, done)
    VALUES (r, p_pile, -1, p_first, p_count, false, false);
END $$;
"""  # noqa: E501


class Migration(migrations.Migration):
    dependencies = [("runs", "0006_minutes")]
    operations = [migrations.RunSQL(RETURN, migrations.RunSQL.noop)]
