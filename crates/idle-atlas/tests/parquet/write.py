"""Writes the table of the tests with pyarrow or DuckDB: python write.py pyarrow|duckdb FOLDER."""

import datetime as dt
import decimal
import pathlib
import sys

import pyarrow as pa
import pyarrow.parquet as pq

which, folder = sys.argv[1], pathlib.Path(sys.argv[2])
utc = dt.timezone.utc
video = pa.struct([(name, pa.string()) for name in ["title", "description", "thumbnail", "content"]] + [("duration", pa.int32())])
film = {"title": "Up the bank", "description": "From the cab", "thumbnail": "/v/bank.jpg", "content": "/v/bank.mp4", "duration": 95}
columns = {
    "slug": pa.array(["weir", "ty-croes", "summit", "depot"]).dictionary_encode(),
    "title": pa.array(["Weir, the halt", "Ty Croes", "Summit\nhalt", None], pa.large_string()),
    "updated": pa.array(
        [dt.datetime(2026, 7, 1, 8, 30, tzinfo=utc), dt.datetime(2026, 11, 1, 8, 30, tzinfo=utc), None, None],
        pa.timestamp("us", tz="Europe/London"),
    ),
    "opened": pa.array([dt.date(1926, 5, 1), None, dt.date(2026, 2, 3), dt.date(2026, 3, 4)]),
    "local": pa.array([None, None, dt.datetime(2026, 7, 2, 9, 0), None], pa.timestamp("ms")),
    "share": pa.array([decimal.Decimal("0.80")] * 4, pa.decimal128(9, 2)),
    "pictures": pa.array([["/p/weir-a.jpg", "/p/weir-b.jpg"], [], None, ["/p/depot.jpg"]], pa.list_(pa.string())),
    "films": pa.array([[film], None, [], None], pa.list_(video)),
    "tags": pa.array([["halts", "river"], ["halts"], None, None], pa.list_(pa.string())),
    "draft": pa.array([False, False, False, True]),
    "noon": pa.array([dt.time(12)] * 4),
    "year": pa.array([2025, 2026, 2026, 2026], pa.int32()),
}
table = pa.table(columns)
if which == "pyarrow":
    pq.write_to_dataset(table, folder, partition_cols=["year"], row_group_size=2, compression="zstd")
else:
    import duckdb

    duckdb.register("halts", table)
    duckdb.sql(f"copy halts to '{folder}' (format parquet, partition_by (year), compression gzip)")
