"""An embedded index, read by the binding of its library for another language. Prints one line of JSON: how many documents there
are, how many of them a query finds, and the values of the document that another query finds."""

import json
import sys

import tantivy

directory, query, one = sys.argv[1:]
index = tantivy.Index.open(directory)
index.reload()
searcher = index.searcher()
found = searcher.search(index.parse_query(query, []), 10)
first = searcher.search(index.parse_query(one, []), 1)
document = searcher.doc(first.hits[0][1]).to_dict()
values = {name: [str(value) for value in values] for name, values in sorted(document.items())}
print(json.dumps({"documents": searcher.num_docs, "found": found.count, "values": values}, ensure_ascii=False))
