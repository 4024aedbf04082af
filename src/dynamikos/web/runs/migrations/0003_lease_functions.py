from django.db import migrations

LEASE = """
CREATE OR REPLACE FUNCTION lease_rows(p_shard bigint, p_pile text, p_size int) RETURNS TABLE (first_taking bigint, how_many bigint)
LANGUAGE plpgsql SECURITY DEFINER SET search_path = public, pg_temp AS $$
DECLARE r uuid; n int; p runs_pile%ROWTYPE; f runs_lease%ROWTYPE; size bigint;
BEGIN
  SELECT run_id, number INTO r, n FROM runs_shard WHERE id = p_shard AND state = 'running';
  IF NOT FOUND THEN RETURN; END IF;
  SELECT * INTO p FROM runs_pile WHERE run_id = r AND name = p_pile FOR UPDATE;
  IF NOT FOUND THEN RETURN; END IF;
  UPDATE runs_lease SET begun = true WHERE run_id = r AND name = p_pile AND shard = n AND NOT begun;
  SELECT * INTO f FROM runs_lease WHERE run_id = r AND name = p_pile AND shard = -1 ORDER BY first LIMIT 1;
  IF FOUND THEN
    UPDATE runs_lease SET shard = n, begun = false WHERE id = f.id;
    RETURN QUERY SELECT f.first, f.count;
    RETURN;
  END IF;
  IF p.endless THEN size := p_size; ELSE size := least(p_size, p.rows - p.next); END IF;
  IF size <= 0 THEN RETURN; END IF;
  INSERT INTO runs_lease (run_id, name, shard, first, count, begun) VALUES (r, p_pile, n, p.next, size, false);
  UPDATE runs_pile SET next = p.next + size WHERE id = p.id;
  RETURN QUERY SELECT p.next, size;
END $$;
CREATE OR REPLACE FUNCTION return_rows(p_shard bigint, p_pile text, p_first bigint, p_count bigint) RETURNS void
LANGUAGE plpgsql SECURITY DEFINER SET search_path = public, pg_temp AS $$
DECLARE r uuid; n int; f runs_lease%ROWTYPE;
BEGIN
  SELECT run_id, number INTO r, n FROM runs_shard WHERE id = p_shard AND state = 'running';
  IF NOT FOUND OR p_count <= 0 THEN RETURN; END IF;
  PERFORM 1 FROM runs_pile WHERE run_id = r AND name = p_pile FOR UPDATE;
  SELECT * INTO f FROM runs_lease WHERE run_id = r AND name = p_pile AND shard = n AND first <= p_first AND first + count >= p_first + p_count LIMIT 1;
  IF NOT FOUND THEN RETURN; END IF;
  IF p_first = f.first THEN DELETE FROM runs_lease WHERE id = f.id;
  ELSE UPDATE runs_lease SET count = p_first - f.first WHERE id = f.id; END IF;
  INSERT INTO runs_lease (run_id, name, shard, first, count, begun) VALUES (r, p_pile, -1, p_first, p_count, false);
END $$;
REVOKE ALL ON FUNCTION lease_rows(bigint, text, int), return_rows(bigint, text, bigint, bigint) FROM PUBLIC;
"""  # noqa: E501


class Migration(migrations.Migration):
    dependencies = [("runs", "0002_leases")]
    operations = [
        migrations.RunSQL(
            LEASE,
            "DROP FUNCTION lease_rows(bigint, text, int); DROP FUNCTION return_rows(bigint, text, "
            "bigint, bigint);",
        )
    ]
