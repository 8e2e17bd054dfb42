"""Tenants of endpoint-management services, over open standards, from the wire up:

service.py     where a service is, how it is signed in to, and within which limits it is waited for
connection.py  requests and answers: pace, patience, limits, certificates, and to whom nothing is said
pacing.py      how many requests are under way
sign_in.py     OAuth 2.0: who gives out tokens, and getting one
csdl.py        what a service says of its own types ($metadata)
odata.py       OData: collections, items, keys, ETags, links
people.py      groups and users, from SCIM or from a collection
policies.py    a policy as a service has it, and as a document
unfinished.py  what an export that was cut off has read
tenant.py      what is read of a tenant, and a part's home there
writing.py     creating, changing and deleting a policy
"""
