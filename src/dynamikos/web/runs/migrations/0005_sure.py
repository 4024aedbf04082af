"""Messages that can't come twice, and rows that are not dealt again before the pile is used up."""

from django.db import migrations, models

LEASE = """
DROP FUNCTION IF EXISTS lease_rows(bigint, text, int);
CREATE OR REPLACE FUNCTION lease_rows(p_shard bigint, p_pile text, p_size int, p_left bigint) RETURNS TABLE (first_taking bigint, how_many bigint)
LANGUAGE plpgsql SECURITY DEFINER SET search_path = public, pg_temp AS $$
DECLARE r uuid; n int; p runs_pile%ROWTYPE; f runs_lease%ROWTYPE; size bigint; rest bigint; turn bigint; shards int; freed boolean;
BEGIN
  SELECT run_id, number INTO r, n FROM runs_shard WHERE id = p_shard AND state = 'running';
  IF NOT FOUND THEN RETURN; END IF;
  SELECT * INTO p FROM runs_pile WHERE run_id = r AND name = p_pile FOR UPDATE;
  IF NOT FOUND OR p.rows <= 0 THEN RETURN; END IF;
  UPDATE runs_lease SET begun = true WHERE run_id = r AND name = p_pile AND shard = n AND NOT begun;
  IF p_left = 0 THEN
    UPDATE runs_lease SET done = true WHERE run_id = r AND name = p_pile AND shard = n AND NOT done;
  END IF;
  SELECT * INTO f FROM runs_lease WHERE run_id = r AND name = p_pile AND shard = -1 ORDER BY first LIMIT 1;
  freed := FOUND;
  rest := CASE WHEN p.endless THEN p.rows - p.next % p.rows ELSE greatest(0, p.rows - p.next) END;
  turn := CASE WHEN freed THEN f.first / p.rows WHEN rest = 0 THEN p.rows ELSE p.next / p.rows END;  -- how often the pile went round before
  IF EXISTS (
    SELECT 1 FROM runs_lease l JOIN runs_shard s ON s.run_id = l.run_id AND s.number = l.shard
    WHERE l.run_id = r AND l.name = p_pile AND l.shard <> n AND NOT l.done AND s.state = 'running' AND l.first / p.rows < turn
  ) THEN  -- others hold rows of an earlier turn that nobody has used yet: they are asked to give them back
    UPDATE runs_pile SET wanted = true WHERE id = p.id;
    RETURN QUERY SELECT -1::bigint, 0::bigint;
    RETURN;
  END IF;
  IF freed THEN
    UPDATE runs_lease SET shard = n, begun = false, done = false WHERE id = f.id;
    UPDATE runs_pile SET wanted = false WHERE id = p.id;
    RETURN QUERY SELECT f.first, f.count;
    RETURN;
  END IF;
  IF rest = 0 THEN RETURN; END IF;
  SELECT count(*) INTO shards FROM runs_shard WHERE run_id = r;
  size := least(p_size, rest, greatest(1, rest / (2 * greatest(1, shards))));
  INSERT INTO runs_lease (run_id, name, shard, first, count, begun, done) VALUES (r, p_pile, n, p.next, size, false, false);
  UPDATE runs_pile SET next = p.next + size, wanted = false WHERE id = p.id;
  RETURN QUERY SELECT p.next, size;
END $$;
CREATE OR REPLACE FUNCTION rows_wanted(p_shard bigint, p_pile text) RETURNS boolean
LANGUAGE sql SECURITY DEFINER SET search_path = public, pg_temp AS $$
  SELECT p.wanted FROM runs_pile p JOIN runs_shard s ON s.run_id = p.run_id WHERE s.id = p_shard AND p.name = p_pile
$$;
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
  ELSE UPDATE runs_lease SET count = p_first - f.first, done = true WHERE id = f.id; END IF;
  INSERT INTO runs_lease (run_id, name, shard, first, count, begun, done) VALUES (r, p_pile, -1, p_first, p_count, false, false);
END $$;
REVOKE ALL ON FUNCTION lease_rows(bigint, text, int, bigint), return_rows(bigint, text, bigint, bigint), rows_wanted(bigint, text) FROM PUBLIC;
"""  # noqa: E501


class Migration(migrations.Migration):
    dependencies = [("runs", "0004_words")]
    operations = [
        migrations.AddField("kept", "sequence", models.PositiveIntegerField(null=True)),
        migrations.AddField("writtenrow", "shard", models.PositiveIntegerField(default=0)),
        migrations.AddField("writtenrow", "sequence", models.PositiveIntegerField(null=True)),
        migrations.AddField("pile", "wanted", models.BooleanField(default=False)),
        migrations.AddField("lease", "done", models.BooleanField(default=False)),
        migrations.AddConstraint(
            "kept", models.UniqueConstraint(fields=("run", "shard", "sequence"), name="kept_once")
        ),
        migrations.AddConstraint(
            "writtenrow",
            models.UniqueConstraint(fields=("run", "shard", "sequence"), name="written_once"),
        ),
        migrations.RunSQL(LEASE, migrations.RunSQL.noop),
    ]
