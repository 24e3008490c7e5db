"""Long hostile runs, seeded and limited in time: damaged files, random hands, kills. A short form of each is among the tests."""
