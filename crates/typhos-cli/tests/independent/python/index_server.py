"""A published client of the protocol of search indexes, against the server that is named: every call has to do what the client
expects of it. Prints one line of JSON with what was found."""

import json
import sys

from opensearchpy import OpenSearch, helpers
from opensearchpy.exceptions import ConflictError, NotFoundError, RequestError

host, port = sys.argv[1].rsplit(":", 1)
client = OpenSearch([{"host": host, "port": int(port)}])
assert client.info()["version"]["number"]
assert client.ping()

body = {
    "mappings": {
        "dynamic": "strict",
        "properties": {
            "vessel": {"type": "keyword"},
            "party": {"type": "short"},
            "fare": {"type": "scaled_float", "scaling_factor": 100},
            "departs": {"type": "date", "format": "strict_date_optional_time||dd.MM.uuuu"},
            "note": {"type": "text", "fields": {"exact": {"type": "keyword"}}},
            "paid": {"type": "boolean"},
            "crew": {"type": "nested", "properties": {"name": {"type": "keyword"}, "years": {"type": "byte"}}},
        },
    },
    "settings": {"index": {"number_of_shards": 1}},
}
assert client.indices.create(index="sailings-1", body=body)["acknowledged"]
assert client.indices.exists(index="sailings-1")
assert not client.indices.exists(index="sailings-2")
try:
    client.indices.create(index="sailings-1")
    raise AssertionError("an index was made twice")
except RequestError as error:
    assert error.error == "resource_already_exists_exception", error.error

mapping = client.indices.get_mapping(index="sailings-1")["sailings-1"]["mappings"]
assert mapping["properties"]["fare"] == {"type": "scaled_float", "scaling_factor": 100}, mapping
client.indices.put_mapping(index="sailings-1", body={"properties": {"berth": {"type": "geo_point"}}})
try:
    client.indices.put_mapping(index="sailings-1", body={"properties": {"party": {"type": "keyword"}}})
    raise AssertionError("a field changed its type")
except RequestError as error:
    assert "cannot be changed from type [short] to [keyword]" in str(error.info), error.info


def documents():
    for at in range(1000):
        yield {
            "_op_type": "create",
            "_index": "sailings-1",
            "_id": f"s{at}",
            "vessel": ["Tern", "Gull", "Auk"][at % 3],
            "party": at % 7,
            "fare": at / 100,
            "departs": f"2025-01-{1 + at % 28:02}T06:00:00Z",
            "note": "calm sea" if at % 2 else "rough sea, late",
            "paid": at % 4 == 0,
            "crew": [{"name": "Ana", "years": 3}, {"name": "Bo", "years": at % 9}],
        }


assert helpers.bulk(client, documents(), chunk_size=300) == (1000, [])
count, errors = helpers.bulk(client, documents(), chunk_size=500, raise_on_error=False)
assert count == 0 and len(errors) == 1000, (count, len(errors))
assert errors[0]["create"]["status"] == 409
assert errors[0]["create"]["error"]["type"] == "version_conflict_engine_exception"

client.indices.refresh(index="sailings-1")
assert client.count(index="sailings-1")["count"] == 1000
assert client.count(index="sailings-1", body={"query": {"term": {"vessel": "Gull"}}})["count"] == 333
assert client.count(index="sailings-1", body={"query": {"match": {"note": "LATE"}}})["count"] == 500
assert client.count(index="sailings-1", body={"query": {"term": {"note.exact": "calm sea"}}})["count"] == 500
assert client.count(index="sailings-1", body={"query": {"range": {"fare": {"gte": 1, "lt": 2}}}})["count"] == 100
assert client.count(index="sailings-1", body={"query": {"range": {"departs": {"gte": "27.01.2025"}}}})["count"] == 70
assert client.count(index="sailings-1", body={"query": {"exists": {"field": "berth"}}})["count"] == 0
both = {"bool": {"filter": [{"term": {"paid": True}}], "must_not": {"term": {"party": 0}}}}
assert client.count(index="sailings-1", body={"query": both})["count"] == sum(
    1 for at in range(1000) if at % 4 == 0 and at % 7
)

found = client.search(
    index="sailings-1",
    body={
        "size": 2,
        "sort": [{"fare": "desc"}],
        "query": {"term": {"vessel": "Tern"}},
        "aggs": {
            "fares": {"stats": {"field": "fare"}},
            "vessels": {"terms": {"field": "vessel"}, "aggs": {"mean": {"avg": {"field": "party"}}}},
            "unknown": {"missing": {"field": "berth"}},
            "crew": {"nested": {"path": "crew"}, "aggs": {"years": {"max": {"field": "crew.years"}}}},
            "last": {"max": {"field": "departs"}},
        },
    },
)
assert found["hits"]["total"] == {"value": 334, "relation": "eq"}
assert [hit["_id"] for hit in found["hits"]["hits"]] == ["s999", "s996"]
assert found["hits"]["hits"][0]["_source"]["fare"] == 9.99
sums = found["aggregations"]
assert sums["fares"]["count"] == 334 and sums["fares"]["max"] == 9.99 and sums["fares"]["min"] == 0
assert abs(sums["fares"]["sum"] - sum(at / 100 for at in range(0, 1000, 3))) < 1e-6
assert sums["vessels"]["buckets"][0]["key"] == "Tern" and sums["vessels"]["buckets"][0]["doc_count"] == 334
assert sums["unknown"]["doc_count"] == 334
assert sums["crew"]["doc_count"] == 668 and sums["crew"]["years"]["value"] == 6
assert sums["last"]["value_as_string"] == "2025-01-28T06:00:00.000Z", sums["last"]

assert client.get(index="sailings-1", id="s7")["_source"]["fare"] == 0.07
assert client.exists(index="sailings-1", id="s7") and not client.exists(index="sailings-1", id="x")
try:
    client.get(index="sailings-1", id="x")
    raise AssertionError("a document that is not there was found")
except NotFoundError:
    pass
try:
    client.create(index="sailings-1", id="s7", body={"party": 1})
    raise AssertionError("a document was made twice")
except ConflictError:
    pass
for wrong in [{"party": "many"}, {"party": 40000}, {"stranger": 1}, {"departs": "31.06.2025"}]:
    try:
        client.index(index="sailings-1", body=wrong)
        raise AssertionError(f"{wrong} was taken")
    except RequestError as error:
        assert error.status_code == 400
assert client.delete(index="sailings-1", id="s7")["result"] == "deleted"
assert len(client.mget(index="sailings-1", body={"ids": ["s1", "s2"]})["docs"]) == 2

client.indices.create(index="sailings-2", body=body)
client.indices.put_alias(index="sailings-1", name="sailings")
assert client.indices.exists_alias(name="sailings")
swap = [
    {"remove": {"index": "sailings-1", "alias": "sailings"}},
    {"add": {"index": "sailings-2", "alias": "sailings"}},
]
client.indices.update_aliases(body={"actions": swap})
assert list(client.indices.get_alias(name="sailings")) == ["sailings-2"]
client.indices.delete(index="sailings-1")
try:
    client.search(index="sailings-1")
    raise AssertionError("an index that is gone was searched")
except NotFoundError as error:
    assert error.error == "index_not_found_exception"

print(json.dumps({"well": True}))
