"""Writes spark/, the table of the tests as Spark writes it: partitioned, snappy, timestamps of 96 bits.

Made once with PySpark 4 and kept, because Spark is large:

    pip install pyspark && python spark.py
"""

import datetime
import shutil

from pyspark.sql import Row, SparkSession

spark = (
    SparkSession.builder.master("local[1]")
    .config("spark.sql.parquet.outputTimestampType", "INT96")
    .config("spark.sql.session.timeZone", "UTC")
    .getOrCreate()
)
utc = datetime.timezone.utc
rows = [
    Row(year=2025, slug="weir", title="Weir", updated=datetime.datetime(2025, 7, 1, 8, 30, tzinfo=utc), views=7,
        pictures=["/p/weir-a.jpg", "/p/weir-b.jpg"], draft=False),
    Row(year=2026, slug="ty-croes", title="Ty Croes", updated=datetime.datetime(2026, 11, 1, 8, 30, tzinfo=utc), views=9,
        pictures=[], draft=False),
    Row(year=2026, slug="summit", title="Summit", updated=None, views=None, pictures=None, draft=True),
]
schema = "year int, slug string, title string, updated timestamp, views bigint, pictures array<string>, draft boolean"
spark.createDataFrame(rows, schema).coalesce(1).write.partitionBy("year").mode("overwrite").parquet("written")
shutil.rmtree("spark", ignore_errors=True)
shutil.move("written", "spark")
