"""dask.distributed clusters of this machine's own."""

from distributed import LocalCluster

from kestrav.render.cluster import running_loop


def cluster_here(**options):
    return LocalCluster(threads_per_worker=1, processes=True, dashboard_address=":0", loop=running_loop(), **options)
